// The input of a function and the resources that it can reach. This file comes with the starter; the build adds
// it if it is missing, so do not change it.

package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"time"
)

// Call is one invocation of the function: the event and its circumstances.
type Call struct {
	Event       map[string]any `json:"event"`
	ID          string         `json:"id"`
	Function    string         `json:"function"`
	Version     int            `json:"version"`
	Stage       string         `json:"stage"`
	Deadline    int64          `json:"deadline"`     // Unix milliseconds
	MemoryLimit int64          `json:"memory_limit"` // bytes
}

// RemainingMS returns the milliseconds until the invocation times out.
func (c *Call) RemainingMS() int64 { return max(0, c.Deadline-time.Now().UnixMilli()) }

// ErrDenied is returned if the function's permissions do not allow an operation.
var ErrDenied = errors.New("denied")

// ErrNone is returned if there is no such row, object or secret.
var ErrNone = errors.New("not found")

// reach requests resources from the platform; the build sets it.
var reach func(method, path string, body []byte) (status int, answer []byte)

func ask(method, path string, in, out any) error {
	if reach == nil {
		return errors.New("resources are only available on a platform")
	}
	body, ok := in.([]byte)
	if !ok && in != nil {
		var err error
		if body, err = json.Marshal(in); err != nil {
			return err
		}
	}
	status, answer := reach(method, path, body)
	switch {
	case status == 404:
		return fmt.Errorf("%s: %w", path, ErrNone)
	case status >= 400:
		var problem struct {
			Detail string `json:"detail"`
		}
		_ = json.Unmarshal(answer, &problem)
		if status == 401 || status == 403 {
			return fmt.Errorf("%w: %s", ErrDenied, problem.Detail)
		}
		return fmt.Errorf("the platform could not do this (%d): %s", status, problem.Detail)
	}
	if raw, ok := out.(*[]byte); ok {
		*raw = answer
		return nil
	}
	if out == nil || len(answer) == 0 {
		return nil
	}
	return json.Unmarshal(answer, out)
}

// ReadRow reads a row of a table into out.
func ReadRow(table, key string, out any) error {
	return ask("GET", "/tables/"+url.PathEscape(table)+"/"+url.PathEscape(key), nil, out)
}

// WriteRow writes a row of a table.
func WriteRow(table, key string, row any) error {
	return ask("PUT", "/tables/"+url.PathEscape(table)+"/"+url.PathEscape(key), row, nil)
}

// ReadObject reads an object.
func ReadObject(store, key string) (content []byte, err error) {
	err = ask("GET", "/objects/"+url.PathEscape(store)+"/"+url.PathEscape(key), nil, &content)
	return content, err
}

// WriteObject writes an object.
func WriteObject(store, key string, content []byte) error {
	return ask("PUT", "/objects/"+url.PathEscape(store)+"/"+url.PathEscape(key), content, nil)
}

// Send sends a message to a queue.
func Send(queue string, message any) error {
	return ask("POST", "/queues/"+url.PathEscape(queue), message, nil)
}

// Secret reads a secret.
func Secret(name string) (string, error) {
	var out struct {
		Value string `json:"value"`
	}
	err := ask("GET", "/secrets/"+url.PathEscape(name), nil, &out)
	return out.Value, err
}
