package main

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"github.com/google/renameio/v2"
	"rudmar/core/author"
	"rudmar/core/language"
	"rudmar/core/manifest"
)

func formatCommand() *cobra.Command {
	var check bool
	cmd := &cobra.Command{
		Use:   "format [FOLDER]",
		Short: "Format the manifests in a folder and keep their comments",
		Long: `Formats every manifest below a folder: keys in the usual order, two spaces for each
level, at most one blank line. Comments stay with their keys, and text within a line
stays unchanged. A file with errors is not changed.

Exit codes: 0; 3 a file could not be formatted or, with --check, is not formatted.`,
		Args: cobra.MaximumNArgs(1), PreRunE: environment,
		RunE: func(cmd *cobra.Command, args []string) error {
			dir := "."
			if len(args) == 1 {
				dir = args[0]
			}
			folder, err := manifest.FromFS(os.DirFS(dir))
			if err != nil {
				return fmt.Errorf("reading %s: %w", dir, err)
			}
			left := false
			for _, name := range folder.Files() {
				if !manifest.IsManifest(name) && filepath.Base(name) != language.ServiceFile {
					continue
				}
				changed, err := formatFile(folder, dir, name, check)
				switch {
				case errors.Is(err, author.ErrUnformattable):
					left = true
					fmt.Fprintf(cmd.ErrOrStderr(), "%s: %v\n", name, err)
				case err != nil:
					return err
				case changed:
					left = left || check
					fmt.Fprintln(cmd.OutOrStdout(), name)
				}
			}
			if left {
				return coded{exitProblem, nil}
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&check, "check", false, "list the files that are not formatted and change nothing")
	return cmd
}

// formatFile reports whether a file was not formatted, and writes it unless it only checks.
func formatFile(folder *manifest.FSFolder, dir, name string, look bool) (bool, error) {
	text, err := folder.Read(name)
	if err != nil {
		return false, err
	}
	formed, err := author.Format(name, text)
	if err != nil || bytes.Equal(text, formed) || look {
		return err == nil && !bytes.Equal(text, formed), err
	}
	full := filepath.Join(dir, filepath.FromSlash(name))
	info, err := os.Stat(full)
	if err != nil {
		return false, err
	}
	return true, renameio.WriteFile(full, formed, info.Mode())
}
