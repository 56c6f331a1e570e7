package main

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// config is everything that can be set. All defaults stand here.
type config struct {
	data           string
	listen         string
	platformListen string
	routesListen   string
	platform       string
	platformToken  string
	address        string
	lookEvery      time.Duration
	idle           time.Duration
	python         string
	verbose        bool

	server, handle, password string

	platformAt string // where the platform answers, once it does
}

func (c *config) dataFlag(f *pflag.FlagSet, value string) {
	f.StringVar(&c.data, "data", value, "the folder for all data")
}

func (c *config) serveFlags(f *pflag.FlagSet) {
	f.StringVar(&c.listen, "listen", "127.0.0.1:7070", "where the page, the API and git answer")
	f.StringVar(&c.address, "address", "", "how people reach that, where it is not http:// and --listen")
	f.StringVar(&c.platform, "platform", "", "the address of a platform that runs by itself; empty for the local platform inside this process")
	f.DurationVar(&c.lookEvery, "look-every", 3*time.Second, "how often live is compared with the record")
	c.platformFlags(f)
}

func (c *config) platformFlags(f *pflag.FlagSet) {
	f.StringVar(&c.platformListen, "platform-listen", "127.0.0.1:7071", "where the local platform answers its protocol")
	f.StringVar(&c.routesListen, "routes-listen", "127.0.0.1:7072", "where the local platform answers the routes of functions")
	f.StringVar(&c.platformToken, "platform-token", "", "the token between Rudmar and the platform; empty for one that is kept in the data folder")
	f.DurationVar(&c.idle, "idle", 5*time.Minute, "how long the local platform keeps an instance without calls")
	f.StringVar(&c.python, "python", "/usr/bin/python3", "the Python that the local platform runs functions with")
	f.BoolVar(&c.verbose, "verbose", false, "log every request")
}

func (c *config) clientFlags(f *pflag.FlagSet) {
	f.StringVar(&c.server, "server", "http://127.0.0.1:7070", "the address of Rudmar")
	f.StringVar(&c.handle, "handle", "", "your handle")
	f.StringVar(&c.password, "password", "", "your password; better given as RUDMAR_PASSWORD")
}

// environment takes flags that were not given from RUDMAR_… variables.
func environment(c *cobra.Command, _ []string) error {
	var errs error
	c.Flags().VisitAll(func(f *pflag.Flag) {
		name := "RUDMAR_" + strings.ToUpper(strings.ReplaceAll(f.Name, "-", "_"))
		if value, ok := os.LookupEnv(name); ok && !f.Changed {
			if err := f.Value.Set(value); err != nil {
				errs = errors.Join(errs, coded{exitUsage, fmt.Errorf("%s: %w", name, err)})
			}
		}
	})
	return errs
}

func (c *config) logger() *slog.Logger {
	level := slog.LevelInfo
	if c.verbose {
		level = slog.LevelDebug
	}
	return slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: level}))
}

// token gives the token between Rudmar and the platform, made at the first start.
func (c *config) token() (string, error) {
	if c.platformToken != "" {
		return c.platformToken, nil
	}
	file := filepath.Join(c.data, "platform.token")
	text, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		b := make([]byte, 24)
		_, _ = rand.Read(b) // it never fails, says its documentation
		text = []byte(hex.EncodeToString(b))
		err = errors.Join(os.MkdirAll(c.data, 0o700), os.WriteFile(file, text, 0o600))
	}
	if err != nil {
		return "", fmt.Errorf("reading the platform's token: %w", err)
	}
	return strings.TrimSpace(string(text)), nil
}
