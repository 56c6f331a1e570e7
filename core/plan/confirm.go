package plan

import (
	"fmt"
	"strings"

	"rudmar/core/resource"
)

// Confirmation returns why the plan requires the stage's name as confirmation: a
// deletion or a new public route. It is "" if no confirmation is required.
func (p *Plan) Confirmation() string {
	var reasons []string
	deletes := 0
	for _, s := range p.Steps {
		if s.Change == resource.Delete && !s.RecordOnly {
			deletes++
		}
	}
	switch {
	case deletes == 1:
		reasons = append(reasons, "1 resource is deleted")
	case deletes > 1:
		reasons = append(reasons, fmt.Sprintf("%d resources are deleted", deletes))
	}
	for _, o := range p.Impact.Opened {
		if o.Public {
			reasons = append(reasons, o.Route+" becomes public")
		}
	}
	return strings.Join(reasons, "; ")
}
