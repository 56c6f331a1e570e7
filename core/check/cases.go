package check

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"rudmar/core/cases"
	"rudmar/core/diagnostic"
	"rudmar/core/expression"
	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/tree"
)

// checkCase checks the destination and the expectations of a case.
func (w *whole) checkCase(fn *manifest.Function, c manifest.Case, n *tree.Node, expressions *expression.Language) {
	send := n.Get("send")
	if send == nil || send.Kind != tree.Mapping {
		return
	}
	ways, way := 0, ""
	for _, key := range language.SendWays() {
		if send.Get(key) != nil {
			ways, way = ways+1, key
		}
	}
	w.sendKeys(send, way)
	w.caseRoutes(fn, c, send)
	switch {
	case ways != 1:
		w.add(diagnostic.CodeCaseSend, send.Range(),
			"a case sends to one of route, trigger and payload; this one has %d of them", ways)
	case c.Send.Trigger != "":
		var names []string
		for _, t := range fn.At("").Triggers {
			names = append(names, t.Name)
		}
		if !slices.Contains(names, c.Send.Trigger) {
			w.add(diagnostic.CodeCaseSend, send.Get("trigger").Range(), "%q is not a trigger of %s (expected one of %s)",
				diagnostic.Clip(c.Send.Trigger), fn.Name, strings.Join(names, ", "))
		} else if _, err := cases.Build(fn.At(""), fn.Name, c.Send, time.Time{}); err != nil {
			at := send.Get("event")
			if at == nil {
				at = send.Get("trigger")
			}
			w.add(diagnostic.CodeCaseSend, at.Range(), "%v", err)
		}
	case c.Send.Route != "":
		_, target, _ := strings.Cut(c.Send.Route, " ")
		if matched, _ := routeOf(fn.At(""), c.Send); !matched || !strings.HasPrefix(target, "/") {
			w.add(diagnostic.CodeCaseSend, send.Get("route").Range(), "no route of %s matches %q", fn.Name,
				diagnostic.Clip(c.Send.Route))
		}
	}
	if expect := n.Get("expect"); expect != nil && expect.Kind == tree.Sequence {
		for _, item := range expect.Items {
			w.expression(expressions, item, fmt.Sprintf("%q", diagnostic.Clip(item.Value())))
		}
	}
	if stages := n.Get("stages"); stages != nil && stages.Kind == tree.Sequence {
		w.twice(stages, "stage")
		for _, item := range stages.Items {
			if item.Kind == tree.Scalar && w.out.Stage(item.Text) == nil {
				w.unknownStage(item)
			}
		}
	}
}
