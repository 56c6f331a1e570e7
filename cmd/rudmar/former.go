package main

import (
	"fmt"
	"os"
)

// formerVariables are environment variables that have another name now.
func formerVariables() map[string]string {
	return map[string]string{
		"RUDMAR_HANDLE": "RUDMAR_USERNAME", "RUDMAR_LOOK_EVERY": "RUDMAR_OBSERVE_EVERY",
		"RUDMAR_NOTICES_INSIDE": "RUDMAR_NOTIFICATIONS_INSIDE",
	}
}

// checkFormerVariables returns an error if a former variable is set: it would have no effect.
func checkFormerVariables() error {
	for former, now := range formerVariables() {
		if _, set := os.LookupEnv(former); set {
			return coded{exitUsage, fmt.Errorf("the environment variable %s was renamed to %s; set that one and unset %s", former, now, former)}
		}
	}
	return nil
}
