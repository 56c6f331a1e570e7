package main

import (
	"bytes"
	"fmt"
	"go/ast"
	"go/format"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// mutant is one change that can be made and reverted.
type mutant struct {
	source     source
	file       string
	line       int
	asked      int    // the line whose coverage counts
	what       string // makes the change unique on its line
	original   string // the unchanged line
	make, undo func()
}

// text is the file with the change in it; false when it cannot be written.
func (m mutant) text() ([]byte, bool) {
	m.make()
	defer m.undo()
	var text bytes.Buffer
	err := format.Node(&text, m.source.set, m.source.tree)
	return text.Bytes(), err == nil
}

// source is a parsed file.
type source struct {
	name  string
	set   *token.FileSet
	tree  *ast.File
	lines []string
}

// line is the changed code, with its context if it is short.
func (s source) line(n int) string {
	text := strings.TrimSpace(s.lines[n-1])
	if len(text) < 12 && n > 1 {
		text = strings.TrimSpace(s.lines[n-2]) + " " + text
	}
	return text
}

// read parses the files of a package, in the order of their names, without tests and generated files.
func read(dir string) ([]source, error) {
	names, err := filepath.Glob(filepath.Join(dir, "*.go"))
	if err != nil {
		return nil, err
	}
	var out []source
	for _, name := range names {
		if strings.HasSuffix(name, "_test.go") || strings.HasSuffix(name, ".gen.go") {
			continue
		}
		whole, err := filepath.Abs(name)
		if err != nil {
			return nil, err
		}
		text, err := os.ReadFile(whole)
		if err != nil {
			return nil, err
		}
		s := source{name: whole, set: token.NewFileSet(), lines: strings.Split(string(text), "\n")}
		if s.tree, err = parser.ParseFile(s.set, whole, text, parser.ParseComments); err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}

// opposite is the replacement of an operator.
var opposite = map[token.Token]token.Token{
	token.EQL: token.NEQ, token.NEQ: token.EQL, token.LSS: token.LEQ, token.LEQ: token.LSS,
	token.GTR: token.GEQ, token.GEQ: token.GTR,
	token.LAND: token.LOR, token.LOR: token.LAND, token.ADD: token.SUB, token.SUB: token.ADD,
}

// mutantsOf lists the changes of a file: operators replaced, conditions negated, numbers off by one, statements
// removed.
func mutantsOf(s source) []mutant {
	var out []mutant
	times := map[string]int{}
	// Coverage counts the body of a case; its expression is covered with its switch.
	cases := map[ast.Expr]*ast.SwitchStmt{}
	add := func(at token.Pos, what string, change, undo func()) {
		line := s.set.Position(at).Line
		asked := line
		for e, of := range cases {
			if e.Pos() <= at && at < e.End() {
				asked = s.set.Position(of.Pos()).Line
			}
		}
		key := fmt.Sprint(line, what)
		if times[key]++; times[key] > 1 {
			what = fmt.Sprintf("%s, number %d of its line", what, times[key])
		}
		out = append(out, mutant{s, s.name, line, asked, what, s.line(line), change, undo})
	}
	ast.Inspect(s.tree, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.SwitchStmt:
			for _, clause := range n.Body.List {
				for _, e := range clause.(*ast.CaseClause).List {
					cases[e] = n
				}
			}
		case *ast.BinaryExpr:
			if turned, ok := opposite[n.Op]; ok {
				was := n.Op
				add(n.OpPos, fmt.Sprintf("%s is %s", was, turned), func() { n.Op = turned }, func() { n.Op = was })
			}
		case *ast.ExprStmt:
			if tells(n) {
				return false
			}
		case *ast.IfStmt:
			if n.Else == nil && len(n.Body.List) == 1 && tells(n.Body.List[0]) {
				return false // log statements change nothing else
			}
			was := n.Cond
			negated := &ast.UnaryExpr{Op: token.NOT, X: &ast.ParenExpr{X: was}}
			add(n.If, "if not", func() { n.Cond = negated }, func() { n.Cond = was })
		case *ast.ReturnStmt:
			if beside(n) {
				return false // results next to an error are ignored
			}
		case *ast.CallExpr:
			// Preallocated capacity changes nothing.
			if made, ok := n.Fun.(*ast.Ident); ok && made.Name == "make" {
				return false
			}
		case *ast.BasicLit:
			if n.Kind == token.INT {
				was := n.Value
				add(n.Pos(), was+" is one more", func() { n.Value = "(" + was + "+1)" }, func() { n.Value = was })
			}
		case *ast.BlockStmt:
			for i, statement := range n.List {
				if tells(statement) {
					continue
				}
				switch statement.(type) {
				case *ast.ExprStmt, *ast.IncDecStmt, *ast.BranchStmt:
					add(statement.Pos(), "a statement is left out", func() { n.List[i] = &ast.EmptyStmt{} },
						func() { n.List[i] = statement })
				}
			}
		}
		return true
	})
	return out
}

// tells reports whether a statement only notes something in the log.
func tells(statement ast.Stmt) bool {
	call, ok := statement.(*ast.ExprStmt)
	if !ok {
		return false
	}
	made, ok := call.X.(*ast.CallExpr)
	if !ok {
		return false
	}
	of, ok := made.Fun.(*ast.SelectorExpr)
	if !ok || !slices.Contains([]string{"Debug", "Info", "Warn", "Error"}, of.Sel.Name) {
		return false
	}
	from, ok := of.X.(*ast.SelectorExpr)
	return ok && strings.EqualFold(from.Sel.Name, "log")
}

// beside reports whether a return statement returns an error, and otherwise only zero values.
func beside(n *ast.ReturnStmt) bool {
	if len(n.Results) < 2 {
		return false
	}
	switch last := n.Results[len(n.Results)-1].(type) {
	case *ast.Ident:
		if last.Name != "err" {
			return false
		}
	case *ast.CallExpr:
		of, ok := last.Fun.(*ast.SelectorExpr)
		if !ok || of.Sel.Name != "New" && of.Sel.Name != "Errorf" {
			return false
		}
	default:
		return false
	}
	for _, result := range n.Results[:len(n.Results)-1] {
		_, literal := result.(*ast.BasicLit)
		if name, is := result.(*ast.Ident); !literal && !(is && name.Name == "nil") {
			return false
		}
	}
	return true
}

// inside reports whether the change is in a function: coverage does not count declarations outside functions.
func (m mutant) inside() bool {
	for _, d := range m.source.tree.Decls {
		f, ok := d.(*ast.FuncDecl)
		if !ok || f.Body == nil {
			continue
		}
		if m.source.set.Position(f.Body.Pos()).Line <= m.line && m.line <= m.source.set.Position(f.Body.End()).Line {
			return true
		}
	}
	return false
}
