package main

import (
	"encoding/json"
	"io"
)

// printJSON writes a value as JSON that people can read, too.
func printJSON(out io.Writer, v any) error {
	encoder := json.NewEncoder(out)
	encoder.SetIndent("", "  ")
	return encoder.Encode(v)
}
