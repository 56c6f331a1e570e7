// Command mutants changes one thing at a time in a package and tells which
// changes its tests do not notice. The files of the tree stay as they are: each
// change is laid over them for one run of the tests.
//
//	go run ./mutants -dir .. -package ./core/delivery -count 30
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"go/ast"
	"go/format"
	"go/parser"
	"go/token"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// mutant is one change that can be made and taken back.
type mutant struct {
	file, what string
	line       int
	make, undo func()
}

// source is a parsed file.
type source struct {
	name string
	set  *token.FileSet
	tree *ast.File
}

func main() {
	dir := flag.String("dir", ".", "the module's folder")
	pkg := flag.String("package", "./core/delivery", "the package that is changed")
	tests := flag.String("tests", "",
		"the packages whose tests should notice, separated by spaces; empty for the package's own")
	count := flag.Int("count", 20, "how many changes are tried")
	seed := flag.Uint64("seed", 1, "which ones: another seed tries others")
	limit := flag.Duration("limit", 2*time.Minute,
		"how long the tests may take; a change that makes them take longer is noticed")
	flag.Parse()
	if err := run(*dir, *pkg, strings.Fields(*tests), *count, *seed, *limit); err != nil {
		fmt.Fprintln(os.Stderr, "mutants:", err)
		os.Exit(1)
	}
}

func run(dir, pkg string, tests []string, count int, seed uint64, limit time.Duration) error {
	if len(tests) == 0 {
		tests = []string{pkg}
	}
	sources, err := read(filepath.Join(dir, pkg))
	if err != nil {
		return err
	}
	var all []mutant
	for _, s := range sources {
		all = append(all, mutantsOf(s)...)
	}
	random := rand.New(rand.NewPCG(seed, seed))
	random.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	noticed, tried := 0, 0
	for _, m := range all {
		if tried == count {
			break
		}
		m.make()
		ok, compiles, err := survives(dir, m.file, sources[m.file], tests, limit)
		m.undo()
		switch {
		case err != nil:
			return err
		case !compiles:
			continue
		case ok:
			fmt.Printf("not noticed: %s:%d: %s\n", m.file, m.line, m.what)
		default:
			noticed++
		}
		tried++
	}
	fmt.Printf("%s: %d of %d changes were noticed (seed %d)\n", pkg, noticed, tried, seed)
	return nil
}

func read(dir string) (map[string]source, error) {
	names, err := filepath.Glob(filepath.Join(dir, "*.go"))
	if err != nil {
		return nil, err
	}
	out := map[string]source{}
	for _, name := range names {
		if strings.HasSuffix(name, "_test.go") || strings.HasSuffix(name, ".gen.go") {
			continue
		}
		whole, err := filepath.Abs(name)
		if err != nil {
			return nil, err
		}
		s := source{name: whole, set: token.NewFileSet()}
		if s.tree, err = parser.ParseFile(s.set, whole, nil, parser.ParseComments); err != nil {
			return nil, err
		}
		out[whole] = s
	}
	return out, nil
}

var opposite = map[token.Token]token.Token{
	token.EQL: token.NEQ, token.NEQ: token.EQL, token.LSS: token.LEQ, token.LEQ: token.LSS,
	token.GTR: token.GEQ, token.GEQ: token.GTR,
	token.LAND: token.LOR, token.LOR: token.LAND, token.ADD: token.SUB, token.SUB: token.ADD,
}

// mutantsOf lists the changes that can be made in a file: operators turned,
// negations dropped, conditions fixed, numbers off by one, statements left out.
func mutantsOf(s source) []mutant {
	var out []mutant
	add := func(at token.Pos, what string, change, undo func()) {
		out = append(out, mutant{s.name, what, s.set.Position(at).Line, change, undo})
	}
	ast.Inspect(s.tree, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.BinaryExpr:
			if turned, ok := opposite[n.Op]; ok {
				was := n.Op
				add(n.OpPos, fmt.Sprintf("%s is %s", was, turned), func() { n.Op = turned }, func() { n.Op = was })
			}
		case *ast.IfStmt:
			was := n.Cond
			negated := &ast.UnaryExpr{Op: token.NOT, X: &ast.ParenExpr{X: was}}
			add(n.If, "if not", func() { n.Cond = negated }, func() { n.Cond = was })
		case *ast.CallExpr:
			// How much room is made before it is needed changes nothing.
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

// survives runs the tests over a change, and tells whether they pass.
func survives(dir, file string, s source, tests []string, limit time.Duration) (ok, compiles bool, err error) {
	var text bytes.Buffer
	if err := format.Node(&text, s.set, s.tree); err != nil {
		return false, false, nil // what cannot be written cannot be tried
	}
	work, err := os.MkdirTemp("", "mutant-")
	if err != nil {
		return false, false, err
	}
	defer os.RemoveAll(work)
	changed, overlay := filepath.Join(work, "changed.go"), filepath.Join(work, "overlay.json")
	listing, err := json.Marshal(map[string]any{"Replace": map[string]string{file: changed}})
	if err != nil {
		return false, false, err
	}
	if err := errors.Join(os.WriteFile(changed, text.Bytes(), 0o600), os.WriteFile(overlay, listing, 0o600)); err != nil {
		return false, false, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	cmd := exec.CommandContext(ctx, "go",
		append([]string{"test", "-overlay", overlay, "-vet=off", "-failfast"}, tests...)...)
	cmd.Dir, cmd.WaitDelay = dir, time.Second
	// A change may make the tests run for ever: they end with the command that runs them.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	said, err := cmd.CombinedOutput()
	if bytes.Contains(said, []byte("[build failed]")) || bytes.Contains(said, []byte("[setup failed]")) {
		return false, false, nil
	}
	return err == nil, true, nil
}
