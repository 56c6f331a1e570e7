package build

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"rudmar/core/pack"
)

// requirementsFile lists the dependencies of a Python function, in pip's format.
const requirementsFile = "requirements.txt"

// requirement is a line that names a package: its name, extras, and what follows
// (PEP 508).
var requirement = regexp.MustCompile(`^([A-Za-z0-9][A-Za-z0-9._-]*)\s*(\[[^\]]*\])?\s*(.*)$`)

// ErrUnpinned reports a dependency without an exact version.
var ErrUnpinned = errors.New("the dependencies are not pinned")

// unpinned reports a package of requirements.txt without an exact version: the same commit could result in
// another archive tomorrow.
func unpinned(entries []pack.Entry) error {
	for _, e := range entries {
		if e.Path != requirementsFile {
			continue
		}
		number, begun := 0, 1
		whole := ""
		for line := range bytes.Lines(e.Content) {
			number++
			text, _, _ := strings.Cut(strings.TrimSpace(string(line)), "#")
			if whole == "" {
				begun = number
			}
			if before, more := strings.CutSuffix(strings.TrimSpace(text), "\\"); more {
				whole += before + " "
				continue
			}
			whole = strings.TrimSpace(whole + text)
			if parts := requirement.FindStringSubmatch(whole); parts != nil && !strings.HasPrefix(parts[3], "==") &&
				!strings.HasPrefix(parts[3], "@") {
				return fmt.Errorf("%w: %s:%d: %s does not pin a version; write %s==VERSION, as pip freeze does, so the same commit always produces the same archive", ErrUnpinned, requirementsFile, begun, parts[1], parts[1])
			}
			whole = ""
		}
	}
	return nil
}
