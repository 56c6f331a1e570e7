// Package expression evaluates CEL expressions (cel.dev) under limits, for the expectations of
// cases and the rules of gates.
//
// Languages and expressions can be used concurrently.
package expression

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
)

// Limits of one expression. Each of them alone lets a hostile one pass; the time limit is the context's
// deadline.
const (
	costLimit  = 10_000
	depthLimit = 50
	sizeLimit  = 4096
)

// CompileError reports an invalid expression. Column counts from 1, in the expression's first line.
type CompileError struct {
	Line, Column int
	Message      string
}

func (e *CompileError) Error() string { return e.Message }

// ErrNotBoolean reports that an expression yields something other than true or false.
var ErrNotBoolean = errors.New("the expression must be true or false")

// Language is a set of variables of expressions.
type Language struct{ env *cel.Env }

// Expression is a compiled expression.
type Expression struct {
	text    string
	program cel.Program
}

// ForCases returns the language of expectations: status, headers, body, logs,
// took, memory_peak and cold.
func ForCases() (*Language, error) {
	return newLanguage(
		cel.Variable("status", cel.IntType),
		cel.Variable("headers", cel.MapType(cel.StringType, cel.StringType)),
		cel.Variable("body", cel.DynType),
		cel.Variable("logs", cel.ListType(cel.StringType)),
		cel.Variable("took", cel.DurationType),
		cel.Variable("memory_peak", cel.IntType),
		cel.Variable("cold", cel.BoolType),
	)
}

func newLanguage(variables ...cel.EnvOption) (*Language, error) {
	env, err := cel.NewEnv(append(variables,
		cel.ASTValidators(cel.ValidateDurationLiterals(), cel.ValidateTimestampLiterals(), cel.ValidateRegexLiterals()),
		cel.ParserRecursionLimit(depthLimit), cel.ParserExpressionSizeLimit(sizeLimit))...)
	if err != nil {
		return nil, fmt.Errorf("expression: %w", err)
	}
	return &Language{env: env}, nil
}

// Compile reads an expression. The error is a *CompileError.
func (l *Language) Compile(text string) (*Expression, error) {
	ast, issues := l.env.Compile(text)
	if issues.Err() != nil {
		first := issues.Errors()[0]
		line, column := 1, 1
		if first.Location != nil && first.Location.Line() > 0 {
			line, column = first.Location.Line(), max(1, first.Location.Column()+1) // the end of an empty text has no column
		}
		message, _, _ := strings.Cut(first.Message, "\n")
		return nil, &CompileError{Line: line, Column: column, Message: message}
	}
	if out := ast.OutputType(); out != cel.BoolType && out != cel.DynType {
		return nil, &CompileError{Line: 1, Column: 1, Message: ErrNotBoolean.Error() + ", not " + out.String()}
	}
	program, err := l.env.Program(ast, cel.CostLimit(costLimit), cel.InterruptCheckFrequency(100))
	if err != nil {
		return nil, &CompileError{Line: 1, Column: 1, Message: err.Error()}
	}
	return &Expression{text: text, program: program}, nil
}

// String returns the expression's text.
func (e *Expression) String() string { return e.text }

// Holds evaluates the expression over the variables, until the context's deadline.
func (e *Expression) Holds(ctx context.Context, variables map[string]any) (bool, error) {
	out, _, err := e.program.ContextEval(ctx, variables)
	if err != nil {
		return false, fmt.Errorf("evaluating %q: %w", e.text, err)
	}
	truth, ok := out.(types.Bool)
	if !ok {
		return false, fmt.Errorf("evaluating %q: %w", e.text, ErrNotBoolean)
	}
	return bool(truth), nil
}
