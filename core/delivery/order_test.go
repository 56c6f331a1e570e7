package delivery_test

import (
	"strings"
	"testing"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
)

func TestStages(t *testing.T) {
	stages := func(text string) (out []manifest.Stage) {
		for _, pair := range strings.Fields(text) {
			name, after, _ := strings.Cut(pair, "<")
			out = append(out, manifest.Stage{Name: name, After: after})
		}
		return out
	}
	for _, c := range []struct{ declared, standing, want string }{
		{"trial live<trial", "trial live<trial", "trial live"},
		{"", "trial live<trial", "trial live"},
		{"trial", "trial live<trial", "trial live"},
		{"trial", "alpha<middle middle<trial", "trial middle alpha"},
		{"trial live<trial", "beta<trial", "trial beta live"},
		{"live", "beta<trial trial", "trial beta live"},
		{"", "a<b b<a", "a b"},
		{"trial", "lost<nowhere", "lost trial"},
	} {
		standing := map[string]*manifest.Stage{"empty": nil}
		for _, s := range stages(c.standing) {
			standing[s.Name] = &s
		}
		var got []string
		for _, s := range delivery.Stages(stages(c.declared), standing) {
			got = append(got, s.Name)
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%q with %q standing: %v, want %s", c.declared, c.standing, got, c.want)
		}
	}
}
