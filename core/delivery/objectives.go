package delivery

import (
	"fmt"
	"strings"
	"time"

	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/metrics"
)

// Missed returns how figures miss a function's objectives; "" if they do not, and without invocations.
func Missed(o manifest.Objectives, sum metrics.Sum) string {
	var out []string
	if share := float64(sum.Errors) / float64(max(1, sum.Invocations)); o.ErrorsUnder > 0 && share >= o.ErrorsUnder {
		out = append(out, fmt.Sprintf("%s of %s failed, objective under %s", language.FormatShare(share),
			language.FormatCount(sum.Invocations, "invocation"), language.FormatShare(o.ErrorsUnder)))
	}
	p95 := time.Duration(sum.Durations.Quantile(0.95) * float64(time.Millisecond))
	if o.P95Under > 0 && sum.Durations.Count() > 0 && p95 >= o.P95Under {
		out = append(out, fmt.Sprintf("p95 is %s, objective under %s",
			language.FormatTime(p95.Round(time.Millisecond)), language.FormatTime(o.P95Under)))
	}
	return strings.Join(out, ", and ")
}
