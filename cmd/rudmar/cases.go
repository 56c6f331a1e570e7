package main

import (
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"rudmar/core/canon"
	"rudmar/server/api"
)

func caseCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "case", Short: "Run saved cases"}
	cmd.AddCommand(caseRunCommand())
	return cmd
}

func caseRunCommand() *cobra.Command {
	c := &config{}
	var function, format, output string
	var at about
	cmd := &cobra.Command{
		Use: "run [SERVICE STAGE]", Short: "Run the saved cases against a stage",
		Long: `Runs the saved cases of the version in a stage now, on each of its targets, and prints
the result of each; for a failed case, the complete invocation. --format junit writes
JUnit XML for other CI systems.

Exit codes: 0 all cases passed, 1 a case failed.`,
		Args: cobra.MaximumNArgs(2), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := at.read(args, false); err != nil {
				return err
			}
			if format != "text" && format != "junit" && format != "json" {
				return coded{exitUsage, fmt.Errorf("unknown format %q (expected text, json or junit)", format)}
			}
			path := stagePath(at.service, at.stage) + "/cases"
			if function != "" {
				path += "?function=" + url.QueryEscape(function)
			}
			var runs []api.CaseRun
			if err := c.askLong(cmd.Context(), http.MethodPost, path, nil, &runs); err != nil {
				return err
			}
			out := cmd.OutOrStdout()
			if output != "" {
				file, err := os.Create(output)
				if err != nil {
					return fmt.Errorf("writing the case results: %w", err)
				}
				defer file.Close()
				out = file
			}
			return printCases(out, at.service, at.stage, format, runs)
		},
	}
	c.clientFlags(cmd.Flags())
	at.flag(cmd)
	cmd.Flags().StringVar(&function, "function", "", "function whose cases run (default all)")
	cmd.Flags().StringVar(&format, "format", "text", "output format: text, json or junit")
	cmd.Flags().StringVar(&output, "output", "", "file to write (default standard output)")
	return cmd
}

func printCases(out io.Writer, service, stage, format string, runs []api.CaseRun) error {
	failed := 0
	for _, r := range runs {
		if !r.Passed {
			failed++
		}
	}
	var err error
	switch format {
	case "json":
		err = printJSON(out, runs)
	case "junit":
		err = writeJUnit(out, service, stage, runs)
	default:
		for _, r := range runs {
			if r.Passed {
				fmt.Fprintf(out, "passed  %s: %s (%s)%s\n", r.Function, r.Name, r.Target, howSent(r))
			} else {
				fmt.Fprintf(out, "FAILED  %s: %s (%s)%s\n%s", r.Function, r.Name, r.Target, howSent(r), wholeCall(r))
			}
		}
		fmt.Fprintf(out, "%d of %d cases passed\n", len(runs)-failed, len(runs))
	}
	if err == nil && failed > 0 {
		err = coded{exitFailed, nil}
	}
	return err
}

// howSent returns what is unusual about how a case ran.
func howSent(r api.CaseRun) string {
	out := ""
	if n := api.OrZero(r.Attempts); n > 1 {
		out = fmt.Sprintf(", %d attempts", n)
	}
	if why := api.OrZero(r.Direct); why != "" {
		out += ", " + why
	}
	return out
}

// wholeCall returns the event of a case, the response, and each expectation that was not met.
func wholeCall(r api.CaseRun) string {
	var out strings.Builder
	for _, o := range r.Outcomes {
		if !o.Passed {
			fmt.Fprintf(&out, "  expected %s, received %s\n", o.Expected, o.Received)
		}
	}
	if r.Address != nil {
		fmt.Fprintf(&out, "  to %s\n", *r.Address)
	}
	if sent, err := canon.Append(nil, r.Sent); err == nil {
		fmt.Fprintf(&out, "  sent %s\n", sent)
	}
	if r.Invocation == nil {
		return out.String()
	}
	if answer, err := canon.Append(nil, r.Invocation.Response); err == nil && r.Invocation.Error == nil {
		fmt.Fprintf(&out, "  response %s\n", answer)
	}
	if r.Invocation.Error != nil {
		fmt.Fprintf(&out, "  no response: %s\n", r.Invocation.Error.Message)
	}
	for _, line := range r.Invocation.Logs {
		fmt.Fprintf(&out, "  log %s\n", line.Text)
	}
	return out.String()
}

// The form that JUnit writes its reports in, as far as others read it.
type (
	junitSuites struct {
		XMLName xml.Name     `xml:"testsuites"`
		Suites  []junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Errors   int         `xml:"errors,attr"`
		Skipped  int         `xml:"skipped,attr"`
		Time     float64     `xml:"time,attr"` // seconds
		Stamp    string      `xml:"timestamp,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Class   string        `xml:"classname,attr"`
		Name    string        `xml:"name,attr"`
		File    string        `xml:"file,attr"`
		Time    float64       `xml:"time,attr"`
		Failure *junitFailure `xml:"failure,omitempty"`
	}
	junitFailure struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
)

// writeJUnit writes runs as JUnit XML: a suite for each target.
func writeJUnit(out io.Writer, service, stage string, runs []api.CaseRun) error {
	report := junitSuites{}
	at := map[string]int{}
	for _, r := range runs {
		i, known := at[r.Target]
		if !known {
			i = len(report.Suites)
			at[r.Target] = i
			report.Suites = append(report.Suites, junitSuite{Name: service + " in " + stage + " on " + r.Target,
				Stamp: time.UnixMilli(r.At).UTC().Format("2006-01-02T15:04:05")})
		}
		suite := &report.Suites[i]
		c := junitCase{Class: service + "." + r.Function, Name: r.Name, File: r.File}
		if r.Invocation != nil {
			c.Time = (r.Invocation.ColdStartMs + r.Invocation.DurationMs) / 1000
		}
		if !r.Passed {
			suite.Failures++
			c.Failure = &junitFailure{Message: firstFound(r), Text: wholeCall(r)}
		}
		suite.Tests, suite.Time = suite.Tests+1, suite.Time+c.Time
		suite.Cases = append(suite.Cases, c)
	}
	if _, err := io.WriteString(out, xml.Header); err != nil {
		return err
	}
	encoder := xml.NewEncoder(out)
	encoder.Indent("", "  ")
	if err := encoder.Encode(report); err != nil {
		return fmt.Errorf("writing JUnit XML: %w", err)
	}
	_, err := io.WriteString(out, "\n")
	return err
}

func firstFound(r api.CaseRun) string {
	for _, o := range r.Outcomes {
		if !o.Passed {
			return "expected " + o.Expected + ", received " + o.Received
		}
	}
	return "failed"
}
