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

// metrics are what a collector asks for at /metrics, in the form of OpenMetrics. It
// holds counts alone: no names of services, stages or people.
type metrics struct {
	took    *prometheus.HistogramVec
	answers http.Handler
}

func newMetrics(s *Server) *metrics {
	all := prometheus.NewRegistry()
	m := &metrics{
		took: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "rudmar_request_seconds",
			Help:    "How long requests took, by method, address and status; streams are left out.",
			Buckets: []float64{.005, .02, .05, .1, .25, .5, 1, 2.5, 10}}, []string{"method", "route", "status"}),
		answers: promhttp.HandlerFor(all, promhttp.HandlerOpts{EnableOpenMetrics: true}),
	}
	all.MustRegister(m.took, newStates(s), collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// measure counts requests by the pattern of their address.
func (m *metrics) measure(next echo.HandlerFunc) echo.HandlerFunc {
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

// states counts what Rudmar has to do, when it is asked.
type states struct {
	server *Server
	serves *prometheus.Desc
	work   map[string]*prometheus.Desc // by what [store.StateCount] calls it
}

func newStates(s *Server) *states {
	by := func(name, help string) *prometheus.Desc {
		return prometheus.NewDesc(name, help, []string{"state"}, nil)
	}
	return &states{server: s,
		serves: prometheus.NewDesc("rudmar_serves", "1 where all that Rudmar needs is there, else 0.", nil, nil),
		work: map[string]*prometheus.Desc{
			"delivery":   by("rudmar_deliveries", "Versions in stages, by their state."),
			"build":      by("rudmar_builds", "Builds, by their state."),
			"deployment": by("rudmar_deployments", "Deployments, by their state."),
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

// scrapeTime is how long counting may take.
const scrapeTime = 5 * time.Second
