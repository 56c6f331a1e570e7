// Command figures writes the results of benchmarks to a document. It copies the output of
// "go test -bench" from standard input to standard output, and replaces the table between the
// lines <!-- figures --> and <!-- end of figures --> of the document.
//
//	make bench | go run ./figures -document ../docs/reliability.md
package main

import (
	"bufio"
	"bytes"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"
)

const (
	begin = "<!-- figures -->\n"
	end   = "<!-- end of figures -->\n"
)

// result is the result of a benchmark; its name ends with the number of processors.
var result = regexp.MustCompile(`^Benchmark(\S+?)(?:-\d+)?\s+\d+\s+(.*)$`)

func main() {
	document := flag.String("document", "", "document with the table")
	flag.Parse()
	if err := run(*document, os.Stdin, os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, "figures:", err)
		os.Exit(1)
	}
}

func run(document string, in io.Reader, out io.Writer) error {
	var table bytes.Buffer
	table.WriteString("| benchmark | figure | value |\n|---|---|---|\n")
	lines, failed := bufio.NewScanner(in), false
	for lines.Scan() {
		fmt.Fprintln(out, lines.Text())
		failed = failed || strings.HasPrefix(lines.Text(), "FAIL")
		for _, r := range rows(lines.Text()) {
			fmt.Fprintf(&table, "| %s |\n", strings.Join(r[:], " | "))
		}
	}
	if err := lines.Err(); err != nil {
		return fmt.Errorf("reading results: %w", err)
	}
	if failed {
		return errors.New("a benchmark failed; the document is unchanged")
	}
	text, err := os.ReadFile(document)
	if err != nil {
		return fmt.Errorf("reading the document: %w", err)
	}
	text, err = replace(text, table.Bytes())
	if err != nil {
		return fmt.Errorf("%s: %w", document, err)
	}
	return os.WriteFile(document, text, 0o644) //nolint:gosec // a document of the repository
}

// rows returns the table rows of one line of output: benchmark, figure and value for each
// metric except the time of an iteration. Other lines have none.
func rows(line string) [][3]string {
	m := result.FindStringSubmatch(line)
	if m == nil {
		return nil
	}
	name := strings.ReplaceAll(m[1], "/", ", ")
	var out [][3]string
	fields := strings.Fields(m[2])
	for i := 0; i+1 < len(fields); i += 2 {
		value, unit := fields[i], fields[i+1]
		if unit == "ns/op" {
			continue
		}
		out = append(out, [3]string{name, strings.ReplaceAll(unit, "-", " "), value})
	}
	return out
}

// replace returns a document with another table.
func replace(document, table []byte) ([]byte, error) {
	before, rest, ok := bytes.Cut(document, []byte(begin))
	_, after, closed := bytes.Cut(rest, []byte(end))
	if !ok || !closed {
		return nil, fmt.Errorf("the lines %s and %s are missing", strings.TrimSpace(begin), strings.TrimSpace(end))
	}
	return bytes.Join([][]byte{before, []byte(begin), []byte("\n"), table, []byte("\n"), []byte(end), after}, nil), nil
}
