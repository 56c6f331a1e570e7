// Command mutants changes one expression at a time in a package and reports which changes its
// tests do not detect. It leaves the files as they are: each change is an overlay for one build of
// the tests, and only tests that cover the changed line run.
//
//	go run ./mutants -dir .. -package ./core/delivery -count 30
//
// same.csv lists changes without an observable effect, with reasons; they are not tried.
package main

import (
	"bytes"
	"context"
	_ "embed"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/signal"
	"path/filepath"
	"regexp"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"
)

//go:embed same.csv
var sameText []byte

// order has the parameters of one run.
type order struct {
	dir, pkg string
	tests    []string // the packages whose tests should fail
	count    int
	seed     uint64
	atOnce   int
	without  *regexp.Regexp // skipped tests; nil for none
}

func main() {
	o := order{}
	flag.StringVar(&o.dir, "dir", ".", "the module's folder")
	flag.StringVar(&o.pkg, "package", "./core/delivery", "the package that is changed")
	tests := flag.String("tests", "",
		"the packages whose tests should notice, separated by spaces; empty for the package's own")
	flag.IntVar(&o.count, "count", 20, "how many changes are tried")
	flag.Uint64Var(&o.seed, "seed", 1, "which ones: another seed tries others")
	flag.IntVar(&o.atOnce, "at-once", 1, "how many changes are tried at the same time")
	flag.Func("without", "tests that are not asked, by a regular expression", func(text string) (err error) {
		o.without, err = regexp.Compile(text)
		return err
	})
	flag.Parse()
	if o.tests = strings.Fields(*tests); len(o.tests) == 0 {
		o.tests = []string{o.pkg}
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := run(ctx, o); err != nil {
		fmt.Fprintln(os.Stderr, "mutants:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, o order) error {
	same, err := readSame(bytes.NewReader(sameText))
	if err != nil {
		return err
	}
	sources, err := read(filepath.Join(o.dir, o.pkg))
	if err != nil {
		return err
	}
	var all []mutant
	for _, s := range sources {
		all = append(all, mutantsOf(s)...)
	}
	work, err := os.MkdirTemp("", "mutants-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	suites, err := suitesOf(ctx, o, work)
	if err != nil {
		return err
	}
	random := rand.New(rand.NewPCG(o.seed, o.seed))
	random.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })

	var mu sync.Mutex
	noticed, tried, left := 0, 0, 0
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(o.atOnce)
	for i, m := range all {
		mu.Lock()
		enough := tried >= o.count
		mu.Unlock()
		if enough || within.Err() != nil {
			break
		}
		if same.has(filepath.ToSlash(filepath.Join(o.pkg, filepath.Base(m.file))), m) {
			left++
			continue
		}
		text, ok := m.text()
		if !ok {
			continue // a file that cannot be written cannot be tested
		}
		group.Go(func() error {
			got, err := try(within, o.dir, filepath.Join(work, fmt.Sprint(i)), m, text, suites)
			if err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			if got == notBuilt || tried == o.count {
				return nil
			}
			tried++
			if got == noticedIt {
				noticed++
				return nil
			}
			fmt.Printf("not noticed: %s:%d: %s (%s)\n\t%s\n", m.file, m.line, m.what, got, m.original)
			return nil
		})
	}
	err = group.Wait()
	if err != nil && ctx.Err() == nil {
		return err
	}
	fmt.Printf("%s: %d of %d changes were noticed (seed %d; %d that change nothing were passed over)\n",
		o.pkg, noticed, tried, o.seed, left)
	return ctx.Err()
}
