package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"github.com/google/renameio/v2"
	"rudmar/engine"
	"rudmar/platform"
	"rudmar/platform/local"
	"rudmar/server"
)

func serveCommand() *cobra.Command {
	c := &config{}
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Run Rudmar with the local platform",
		Long: `Runs Rudmar until it is stopped. All data is in one folder, which is created if it does
not exist. Before the first start, create a user:

  rudmar user create wren --role author
`,
		Args: cobra.NoArgs, PreRunE: environment,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return c.serve(cmd.Context(), func(context.Context, *engine.Engine) error {
				fmt.Printf("Rudmar listening at %s\n", c.address)
				return nil
			})
		},
	}
	c.dataFlag(cmd.Flags(), "rudmar-data")
	c.serveFlags(cmd.Flags())
	return cmd
}

// serve runs the server until the context ends. ready is called once it responds.
func (c *config) serve(ctx context.Context, ready func(context.Context, *engine.Engine) error) error {
	log := c.logger()
	if err := c.dataFolder(log); err != nil {
		return err
	}
	token, err := c.token()
	if err != nil {
		return err
	}
	listener, err := listen(c.listen, "--listen")
	if err != nil {
		return err
	}
	if c.address == "" {
		c.address = "http://" + listener.Addr().String()
	}
	group := newServers(ctx, log)
	defer group.end()
	platformAddress := c.platform
	if platformAddress == "" {
		if platformAddress, err = c.servePlatform(ctx, group, filepath.Join(c.data, "platform"), token, log); err != nil {
			return err
		}
	}
	c.platformAt = platformAddress
	client, err := platform.NewClient(platformAddress, token)
	if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return fmt.Errorf("finding this program: %w", err)
	}
	proxies, err := c.trustedProxies()
	if err != nil {
		return err
	}
	mail, err := c.mailServer()
	if err != nil {
		return err
	}
	e, err := engine.Open(ctx,
		engine.Options{Dir: c.data, Self: self, Platforms: map[string]*platform.Client{"local": client},
			ObserveEvery: c.lookEvery, Page: c.address, Log: log,
			NewKeys: c.newKeys, Keep: c.keep, BuildsUncaged: c.buildsUncaged,
			TrustedProxies: proxies, NotificationsInside: c.noticesInside, Mail: mail, Registries: c.registries})
	if err != nil {
		return err
	}
	group.later(func() error { return e.Close() })
	switch state, missing := e.Build.Isolation(); state {
	case "refused":
		log.Warn("builds that run commands are refused: this machine cannot isolate them; set --builds-uncaged if you trust everyone who can push", "missing", missing)
	case "open":
		log.Warn("builds run without isolation: anyone who can push can read Rudmar's keys", "missing", missing)
	default:
		for _, m := range missing {
			log.Warn("builds", "note", m)
		}
	}
	s, err := server.New(e, server.Options{Address: c.address, Simulated: true, Demo: c.demo, Log: log})
	if err != nil {
		return err
	}
	group.serve(listener, s)
	if err := ready(ctx, e); err != nil {
		return err
	}
	return group.wait()
}

// servePlatform runs the local platform, and returns its address.
func (c *config) servePlatform(ctx context.Context, group *servers, dir, token string,
	log *slog.Logger) (string, error) {
	protocol, err := listen(c.platformListen, "--platform-listen")
	if err != nil {
		return "", err
	}
	routes, err := listen(c.routesListen, "--routes-listen")
	if err != nil {
		return "", err
	}
	address := "http://" + protocol.Addr().String()
	routesAt := c.routesAddress
	if routesAt == "" {
		routesAt = "http://" + routes.Addr().String()
	}
	if hostOf(routesAt) == hostOf(c.address) {
		log.Warn("function routes share the host name of Rudmar's page, so browsers share cookies between them; set --routes-listen or --routes-address to another host name", "host", hostOf(routesAt))
	}
	p, err := local.Open(ctx, local.Options{Dir: dir, Token: token, RoutesAt: routesAt, DataAt: address, Idle: c.idle,
		Log: log, Python: c.python})
	if err != nil {
		return "", err
	}
	// So a person who changes resources outside Rudmar can find it.
	if err := renameio.WriteFile(filepath.Join(c.data, "platform.address"), []byte(address+"\n"), 0o600); err != nil {
		return "", fmt.Errorf("writing the platform's address: %w", err)
	}
	group.later(p.Close)
	group.serve(protocol, p.Protocol())
	group.serve(routes, p.Routes())
	if at, ok := routes.Addr().(*net.TCPAddr); ok && !at.IP.IsUnspecified() && !at.IP.Equal(net.IPv4(127, 0, 0, 1)) {
		// browsers look for names under .localhost here
		own, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(at.Port)))
		if err != nil {
			log.Warn("the origins of stages are not served", "error", err)
		} else {
			group.serve(own, p.Origins())
		}
	}
	return address, nil
}

// hostOf returns the host name of an address.
func hostOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return u.Hostname()
}

func listen(address, flag string) (net.Listener, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("%s is in use or not available; choose another address with %s: %w", address, flag, err)
	}
	return l, nil
}

// servers are HTTP servers that shut down together, in order.
type servers struct {
	ctx    context.Context
	log    *slog.Logger
	failed chan error
	ends   []func() error
}

func newServers(ctx context.Context, log *slog.Logger) *servers {
	return &servers{ctx: ctx, log: log, failed: make(chan error, 4)}
}

func (s *servers) later(end func() error) { s.ends = append(s.ends, end) }

func (s *servers) serve(l net.Listener, h http.Handler) {
	// Event streams would delay the shutdown: they end with this context.
	ctx, cancel := context.WithCancel(context.WithoutCancel(s.ctx))
	server := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		MaxHeaderBytes: 64 << 10, BaseContext: func(net.Listener) context.Context { return ctx },
		ErrorLog: slog.NewLogLogger(s.log.Handler(), slog.LevelDebug)}
	s.later(func() error {
		cancel()
		limit, stop := context.WithTimeout(context.Background(), 5*time.Second)
		defer stop()
		return server.Shutdown(limit)
	})
	go func() {
		if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			s.failed <- err
		}
	}()
}

// wait waits until the context ends or a server fails.
func (s *servers) wait() error {
	select {
	case <-s.ctx.Done():
		return nil
	case err := <-s.failed:
		return err
	}
}

// end shuts everything down, in reverse order of its start.
func (s *servers) end() {
	for i := len(s.ends) - 1; i >= 0; i-- {
		if err := s.ends[i](); err != nil {
			s.log.Warn("ending", "error", err)
		}
	}
}
