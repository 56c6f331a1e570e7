package expression

import (
	"context"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/parser"
	"google.golang.org/protobuf/types/known/structpb"
)

// Found says what the expression's left side was: of "status == 200" the
// value of status, of "logs.exists(…)" that of logs. It is "" where there is no
// such side.
func (l *Language) Found(ctx context.Context, text string, variables map[string]any) string {
	tree, issues := l.env.Parse(text)
	if issues != nil && issues.Err() != nil {
		return ""
	}
	native := tree.NativeRep()
	left := leftSide(native.Expr())
	if left == nil {
		return ""
	}
	source, err := parser.Unparse(left, native.SourceInfo())
	if err != nil {
		return ""
	}
	compiled, issues := l.env.Compile(source)
	if issues != nil && issues.Err() != nil {
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
		return call.Args()[0]
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
