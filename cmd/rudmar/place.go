package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"rudmar/core/check"
	"rudmar/core/language"
	"rudmar/core/manifest"
)

// about names the stage and service of a command: SERVICE STAGE, or --stage, and by default the service of this
// folder.
type about struct{ service, stage string }

func (a *about) flag(cmd *cobra.Command) {
	cmd.Flags().StringVar(&a.stage, "stage", "", "stage; the service is the one of this folder unless it is named")
}

// read parses the arguments. Commands about all stages can leave the stage out.
func (a *about) read(args []string, all bool) error {
	switch {
	case len(args) == 2 && a.stage != "" && a.stage != args[1]:
		return coded{exitUsage, fmt.Errorf("the arguments name %s and %s: name one stage", args[1], a.stage)}
	case len(args) == 2:
		a.stage = args[1]
	case a.stage == "" && !all:
		return coded{exitUsage, errors.New("no stage given: use SERVICE STAGE, or --stage STAGE in a service's folder")}
	}
	if len(args) > 0 {
		a.service = args[0]
		return nil
	}
	var err error
	a.service, err = serviceIn(".")
	return err
}

// serviceIn returns the name of the service in a folder.
func serviceIn(dir string) (string, error) {
	text, err := os.ReadFile(filepath.Join(dir, language.ServiceFile))
	if err != nil {
		return "", coded{exitUsage, fmt.Errorf(
			"%s has no %s: name the service or its folder, or create one with rudmar new service", dir, language.ServiceFile)}
	}
	checked := check.Service(manifest.Files{language.ServiceFile: text})
	if checked.Service == nil || checked.Service.Name == "" {
		return "", coded{exitProblem, fmt.Errorf("%s cannot be read; run rudmar check %s", language.ServiceFile, dir)}
	}
	return checked.Service.Name, nil
}
