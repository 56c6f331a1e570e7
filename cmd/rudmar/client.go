package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"

	"rudmar/server/api"
)

// ask sends a request to Rudmar's API with the credentials of the flags.
func (c *config) ask(ctx context.Context, method, path string, body, out any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	if err := c.findServer(); err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, method, c.server+"/api"+path, bytes.NewReader(text))
	if err != nil {
		return err
	}
	if err := c.sign(r); err != nil {
		return err
	}
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	} else {
		r.Body, r.ContentLength = nil, 0
	}
	return answer(r, out)
}

// askLong is ask for requests that build or run functions.
func (c *config) askLong(ctx context.Context, method, path string, body, out any) error {
	ctx, cancel := context.WithTimeout(ctx, longFor)
	defer cancel()
	return c.ask(ctx, method, path, body, out)
}

// targets returns the targets of a stage, or the requested one.
func (c *config) targets(ctx context.Context, service, stage, only string) ([]string, error) {
	if only != "" {
		return []string{only}, nil
	}
	var line api.StageLine
	if err := c.ask(ctx, http.MethodGet, "/services/"+service+"/stage-line", nil, &line); err != nil {
		return nil, err
	}
	var names []string
	for _, s := range line.Stages {
		if s.Stage == stage {
			return s.Targets, nil
		}
		names = append(names, s.Stage)
	}
	return nil, coded{exitUsage, fmt.Errorf("%s has no stage %q; it has %s", service, stage, strings.Join(names, ", "))}
}
