package expand

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"

	"rudmar/core/canon"
	"rudmar/core/manifest"
	"rudmar/core/tree"
)

// render replaces references by values. An attribute with a secret contains a fingerprint, and the value itself
// is returned separately.
func (x *expander) render(name string, t manifest.Template, from tree.Origin) (Attribute, string) {
	a := Attribute{Name: name, From: from}
	b := strings.Builder{}
	secret, missing := false, false
	for _, part := range t {
		switch part.Kind {
		case "":
			b.WriteString(part.Literal)
		case manifest.ToSetting:
			v := x.setting(part.Name)
			b.WriteString(settingText(v.V))
			a.Through = append(a.Through, v.From)
		case manifest.ToSecret:
			value, ok := x.in.Secrets[part.Name]
			if missing = missing || !ok; !ok {
				x.problems = append(x.problems,
					Problem{Message: fmt.Sprintf("the secret %q has no value in %s; set it before deploying", part.Name,
						x.stage.Name), From: from})
			}
			secret = true
			b.WriteString(value)
		case manifest.ToStageName:
			b.WriteString(x.stage.Name)
		case manifest.ToStageRegion:
			b.WriteString(x.target.Region)
		case manifest.ToService:
			b.WriteString(x.service.Name)
		case manifest.ToVersion:
			x.elsewhere = true
			fmt.Fprint(&b, x.in.Version)
		case manifest.ToURL:
			x.elsewhere = true
			b.WriteString(x.url(part.Name))
		}
	}
	a.Value = b.String()
	if missing {
		a.Value = "secret without a value"
		return a, ""
	}
	if secret {
		mac := hmac.New(sha256.New, x.in.Key)
		mac.Write([]byte(b.String()))
		a.Value = "secret " + hex.EncodeToString(mac.Sum(nil)[:8])
		return a, b.String()
	}
	return a, ""
}

func (x *expander) setting(name string) manifest.Value[any] {
	if v, ok := x.stage.Set[name]; ok {
		return v
	}
	if s := x.service.Setting(name); s != nil {
		v := s.Default
		v.From.Rule = tree.OfSetting
		return v
	}
	return manifest.Value[any]{}
}

func settingText(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case nil:
		return ""
	}
	return canon.Text(v)
}

// url returns the address of a function's first route in this stage.
func (x *expander) url(name string) string {
	if fn := x.service.Function(name); fn != nil {
		for _, t := range fn.At(x.stage.Name).Triggers {
			if t.Kind == manifest.RouteTrigger {
				return x.in.Address + t.Route.V.Path()
			}
		}
	}
	return x.in.Address
}
