package server

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
)

// collector serves /metrics in the OpenMetrics format. It contains only counts: no names of services, stages or
// people.
type collector struct {
	took    *prometheus.HistogramVec
	answers http.Handler
}

func newMetrics(s *Server) *collector {
	all := prometheus.NewRegistry()
	m := &collector{
		took: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "rudmar_request_seconds",
			Help:    "Duration of requests by method, route and status, without streams.",
			Buckets: []float64{.005, .02, .05, .1, .25, .5, 1, 2.5, 10}}, []string{"method", "route", "status"}),
		answers: promhttp.HandlerFor(all, promhttp.HandlerOpts{EnableOpenMetrics: true}),
	}
	all.MustRegister(m.took, newStates(s), collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// measure counts requests by the pattern of their address.
func (m *collector) measure(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		begun := time.Now()
		err := next(c)
		status := http.StatusOK
		if err != nil {
			status, _ = statusOf(err)
		} else if r, unwrapErr := echo.UnwrapResponse(c.Response()); unwrapErr == nil && r.Status != 0 {
			status = r.Status
		}
		if route := c.Path(); route != "" && c.Response().Header().Get("Content-Type") != "text/event-stream" {
			m.took.WithLabelValues(c.Request().Method, route, strconv.Itoa(status)).Observe(time.Since(begun).Seconds())
		}
		return err
	}
}

// states counts Rudmar's work, on each request.
type states struct {
	server *Server
	serves *prometheus.Desc
	work   map[string]*prometheus.Desc // by the names of [store.StateCount]
}

func newStates(s *Server) *states {
	by := func(name, help string) *prometheus.Desc {
		return prometheus.NewDesc(name, help, []string{"state"}, nil)
	}
	return &states{server: s,
		serves: prometheus.NewDesc("rudmar_serves", "1 if Rudmar is healthy, otherwise 0.", nil, nil),
		work: map[string]*prometheus.Desc{
			"delivery":   by("rudmar_deliveries", "Versions in stages, by state."),
			"build":      by("rudmar_builds", "Builds, by state."),
			"deployment": by("rudmar_deployments", "Deployments, by state."),
		}}
}

// Describe implements [prometheus.Collector].
func (s *states) Describe(out chan<- *prometheus.Desc) {
	out <- s.serves
	for _, d := range s.work {
		out <- d
	}
}

// Collect implements [prometheus.Collector].
func (s *states) Collect(out chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), scrapeTime)
	defer cancel()
	counts, err := s.server.engine.Store.CountStates(ctx)
	serves := 0.0
	if err == nil && s.server.serves(ctx) == nil {
		serves = 1
	}
	out <- prometheus.MustNewConstMetric(s.serves, prometheus.GaugeValue, serves)
	for _, c := range counts {
		out <- prometheus.MustNewConstMetric(s.work[c.Of], prometheus.GaugeValue, float64(c.Count), c.State)
	}
}

// scrapeTime is the time limit of the counts.
const scrapeTime = 5 * time.Second
