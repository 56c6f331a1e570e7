package expression

import (
	"context"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/parser"
	"google.golang.org/protobuf/types/known/structpb"
)

// Found returns the value of the expression's left side: of "status == 200" the value of status, of
// "logs.exists(…)" that of logs. It is "" without such a side.
func (l *Language) Found(ctx context.Context, text string, variables map[string]any) string {
	tree, issues := l.env.Parse(text)
	if issues.Err() != nil {
		return ""
	}
	native := tree.NativeRep()
	var found []string
	for _, left := range leftSides(native.Expr()) {
		if text := l.value(ctx, left, native.SourceInfo(), variables); text != "" && !slices.Contains(found, text) {
			found = append(found, text)
		}
	}
	return strings.Join(found, ", ")
}

// leftSides returns the left side of an expression, and of each part that "and" or
// "or" joins.
func leftSides(e ast.Expr) []ast.Expr {
	if e.Kind() == ast.CallKind {
		switch call := e.AsCall(); call.FunctionName() {
		case "_&&_", "_||_":
			return append(leftSides(call.Args()[0]), leftSides(call.Args()[1])...)
		}
	}
	if left := leftSide(e); left != nil {
		return []ast.Expr{left}
	}
	return nil
}

func (l *Language) value(ctx context.Context, left ast.Expr, info *ast.SourceInfo, variables map[string]any) string {
	source, err := parser.Unparse(left, info)
	if err != nil {
		return ""
	}
	compiled, issues := l.env.Compile(source)
	if issues.Err() != nil {
		return ""
	}
	program, err := l.env.Program(compiled, cel.CostLimit(costLimit), cel.InterruptCheckFrequency(100))
	if err != nil {
		return ""
	}
	value, _, err := program.ContextEval(ctx, variables)
	if err != nil {
		return source + ": " + err.Error()
	}
	return source + " is " + shown(value)
}

func leftSide(e ast.Expr) ast.Expr {
	switch e.Kind() {
	case ast.IdentKind, ast.SelectKind: // cold
		return e
	case ast.ComprehensionKind: // logs.exists(l, …)
		return e.AsComprehension().IterRange()
	case ast.CallKind:
	default:
		return nil
	}
	call := e.AsCall()
	switch call.FunctionName() {
	case "!_":
		return leftSide(call.Args()[0])
	case "_==_", "_!=_", "_<_", "_<=_", "_>_", "_>=_", "@in":
		left := call.Args()[0]
		if left.Kind() == ast.LiteralKind {
			return call.Args()[1] // "one" in logs: the logs explain the failure
		}
		if left.Kind() == ast.CallKind && left.AsCall().FunctionName() == "size" && left.AsCall().IsMemberFunction() {
			return left.AsCall().Target() // the value says more than its size
		}
		return left
	}
	if call.IsMemberFunction() { // body.name.startsWith("x")
		return call.Target()
	}
	return nil
}

func shown(v ref.Val) string {
	if d, ok := v.(types.Duration); ok {
		return d.Duration.String()
	}
	native, err := v.ConvertToNative(reflect.TypeFor[*structpb.Value]())
	if err != nil {
		return fmt.Sprint(v.Value())
	}
	text, err := json.Marshal(native.(*structpb.Value).AsInterface())
	if err != nil {
		return fmt.Sprint(v.Value())
	}
	if s := string(text); len(s) > 300 {
		return strings.ToValidUTF8(s[:300], "") + "…"
	}
	return string(text)
}
