// Mutate changes one operator at a time in some packages, and tells which changes no test notices:
//
//	go run ./.ci/mutate -copy DIR -by ". ./replay" -skip REGEXP ./internal/engine
//
// All changes of a package are compiled into it at once, each behind a number that the environment
// chooses, so that nothing is compiled anew for each. A change counts as noticed where a test fails
// or does not end. It works on a copy of the sources, which it may spoil.
package main

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"go/ast"
	"go/token"
	"go/types"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/tools/go/packages"
)

var (
	copied = flag.String("copy", "", "the copy of the sources")
	by     = flag.String("by", "", "the packages whose tests hold the package besides its own, in the order in which they are tried")
	skip   = flag.String("skip", "", "tests that are left out")
	least  = flag.Int("least", 90, "how many of 100 changes must be noticed")
)

// change is one operator that is changed; its number is its place in the list, from 1.
type change struct {
	at   token.Position
	what string
}

func main() {
	log.SetFlags(0)
	flag.Parse()
	enough := true
	for _, dir := range flag.Args() {
		noticed, all, err := try(dir)
		if err != nil {
			log.Fatalf("%s: %v", dir, err)
		}
		fmt.Printf("%s: %d of %d changes noticed\n", dir, noticed, all)
		enough = enough && noticed*100 >= *least*all
	}
	if !enough {
		os.Exit(1)
	}
}

// try mutates a package, and restores it afterwards.
func try(dir string) (noticed, all int, err error) {
	m := &mutator{dir: filepath.Join(*copied, dir), without: map[string]bool{}}
	defer m.restore()
	for built := false; !built; {
		if err := m.rewrite(); err != nil {
			return 0, 0, err
		}
		if built, err = m.build(); err != nil {
			return 0, 0, err
		}
	}
	tests, err := m.tests(dir)
	if err != nil {
		return 0, 0, err
	}
	defer os.RemoveAll(tests.bin)
	if tests.notice(0) {
		return 0, 0, fmt.Errorf("the tests fail without any change")
	}
	var next atomic.Int64
	var mu sync.Mutex // of what is told
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for i := int(next.Add(1)) - 1; i < len(m.changes); i = int(next.Add(1)) - 1 {
				seen := tests.notice(i + 1)
				mu.Lock()
				if c := m.changes[i]; seen {
					noticed++
				} else {
					fmt.Printf("%s/%s:%d:%d: %s\n", dir, filepath.Base(c.at.Filename), c.at.Line, c.at.Column, c.what)
				}
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	return noticed, len(m.changes), nil
}

// mutator rewrites the files of a package.
type mutator struct {
	dir     string
	kept    map[string][]byte // the files as they were
	changes []change
	without map[string]bool // places, as file:line, where no change compiles
}

func (m *mutator) restore() {
	for name, text := range m.kept {
		_ = os.WriteFile(name, text, 0o644)
	}
	_ = os.Remove(filepath.Join(m.dir, helperFile))
}

const helperFile = "mutant_helper.go"

func (m *mutator) rewrite() error {
	m.restore()
	m.changes = nil
	list, err := packages.Load(&packages.Config{Dir: m.dir, Mode: packages.NeedName | packages.NeedFiles | packages.NeedSyntax | packages.NeedTypes |
		packages.NeedTypesInfo | packages.NeedImports | packages.NeedDeps}, ".")
	if err != nil {
		return err
	}
	p := list[0]
	if len(p.Errors) > 0 {
		return p.Errors[0]
	}
	m.kept = map[string][]byte{}
	for _, f := range p.Syntax {
		name := p.Fset.Position(f.Pos()).Filename
		text, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		m.kept[name] = text
		r := &rewriter{m: m, fset: p.Fset, info: p.TypesInfo, text: text}
		if err := os.WriteFile(name, []byte(r.file(f)), 0o644); err != nil {
			return err
		}
	}
	return os.WriteFile(filepath.Join(m.dir, helperFile), []byte("package "+p.Name+helper), 0o644)
}

// build compiles the package; lines on which a change does not compile are noted, to be left alone.
func (m *mutator) build() (ok bool, err error) {
	c := exec.Command("go", "build", "-gcflags=-e", ".")
	c.Dir = m.dir
	out, err := c.CombinedOutput()
	if err == nil {
		return true, nil
	}
	found := false
	for _, at := range regexp.MustCompile(`(?m)^\S*?([^/\s]+\.go:\d+):\d+: `).FindAllSubmatch(out, -1) {
		found = found || !m.without[string(at[1])]
		m.without[string(at[1])] = true
	}
	if !found {
		return false, fmt.Errorf("it cannot be built:\n%s", out)
	}
	return false, nil
}

// rewriter puts changes into one file. Lines stay where they are.
type rewriter struct {
	m    *mutator
	fset *token.FileSet
	info *types.Info
	text []byte
}

func (r *rewriter) file(f *ast.File) string {
	return r.render(f, f.FileStart, f.FileEnd)
}

// render gives the text from a place to another, with all nodes within that are changed rewritten.
func (r *rewriter) render(within ast.Node, from, to token.Pos) string {
	var b strings.Builder
	at := from
	ast.Inspect(within, func(n ast.Node) bool {
		if n == nil || n == within && n.Pos() == from && n.End() == to && at != from {
			return true
		}
		if n.Pos() < at || n.End() > to {
			return n.End() > at
		}
		if text, changed := r.changed(n); changed {
			b.Write(r.raw(at, n.Pos()))
			b.WriteString(text)
			at = n.End()
			return false
		}
		return true
	})
	b.Write(r.raw(at, to))
	return b.String()
}

func (r *rewriter) raw(from, to token.Pos) []byte {
	f := r.fset.File(from)
	return r.text[f.Offset(from):f.Offset(to)]
}

func (r *rewriter) sub(n ast.Expr) string {
	if text, changed := r.changed(n); changed {
		return text
	}
	return r.render(n, n.Pos(), n.End())
}

// number notes a change, and gives its number.
func (r *rewriter) number(at token.Pos, what string) int {
	r.m.changes = append(r.m.changes, change{r.fset.Position(at), what})
	return len(r.m.changes)
}

var arithmetic = map[token.Token][2]string{token.ADD: {"mutantAdd", "+ to -"}, token.SUB: {"mutantSub", "- to +"}, token.MUL: {"mutantMul", "* to /"},
	token.QUO: {"mutantQuo", "/ to *"}, token.REM: {"mutantRem", "% to *"}}

var ordered = map[token.Token]string{token.LSS: "mutantLess", token.LEQ: "mutantLessEq", token.GTR: "mutantMore", token.GEQ: "mutantMoreEq"}

// changed rewrites a node that has an operator to change.
func (r *rewriter) changed(n ast.Node) (string, bool) {
	pos := r.fset.Position(n.Pos())
	if r.m.without[fmt.Sprintf("%s:%d", filepath.Base(pos.Filename), pos.Line)] {
		return "", false
	}
	switch n := n.(type) {
	case *ast.BinaryExpr:
		if r.info.Types[n].Value != nil {
			return "", false
		}
		return r.binary(n)
	case *ast.UnaryExpr:
		if n.Op != token.SUB || r.info.Types[n].Value != nil {
			return "", false
		}
		return fmt.Sprintf("mutantNeg(%d, %s)", r.number(n.OpPos, "-x to x"), r.sub(n.X)), true
	case *ast.IncDecStmt:
		call, what := "mutantAdd", "++ to --"
		if n.Tok == token.DEC {
			call, what = "mutantSub", "-- to ++"
		}
		number := r.number(n.TokPos, what)
		x := string(r.raw(n.X.Pos(), n.X.End()))
		return fmt.Sprintf("%s = %s(%d, %s, 1)", x, call, number, x), true
	}
	return "", false
}

func (r *rewriter) binary(n *ast.BinaryExpr) (string, bool) {
	newlines := strings.Repeat("\n", bytes.Count(r.raw(n.X.End(), n.Y.Pos()), []byte("\n")))
	switch {
	case n.Op == token.EQL || n.Op == token.NEQ:
		number := r.number(n.OpPos, n.Op.String()+" negated")
		return fmt.Sprintf("((%s %s %s%s) != mutantIs(%d))", r.sub(n.X), n.Op, newlines, r.sub(n.Y), number), true
	case ordered[n.Op] != "":
		boundary, negation := r.number(n.OpPos, n.Op.String()+" at its bound"), r.number(n.OpPos, n.Op.String()+" negated")
		return fmt.Sprintf("%s(%d, %d, %s, %s%s)", ordered[n.Op], boundary, negation, r.sub(n.X), newlines, r.sub(n.Y)), true
	case arithmetic[n.Op][0] != "":
		if basic, ok := r.info.TypeOf(n).Underlying().(*types.Basic); !ok || basic.Info()&types.IsNumeric == 0 {
			return "", false
		}
		call := arithmetic[n.Op]
		return fmt.Sprintf("%s(%d, %s, %s%s)", call[0], r.number(n.OpPos, call[1]), r.sub(n.X), newlines, r.sub(n.Y)), true
	}
	return "", false
}

// helper chooses the change: by the environment, or, for commands that tests start in an
// environment of their own, by the folder for temporary files.
const helper = `

import (
	"cmp"
	"os"
	"regexp"
	"strconv"
)

var mutantChosen = func() int {
	text := os.Getenv("MUTANT")
	if text == "" {
		if m := regexp.MustCompile("mutant-([0-9]+)").FindStringSubmatch(os.TempDir()); m != nil {
			text = m[1]
		}
	}
	n, _ := strconv.Atoi(text)
	return n
}()

func mutantIs(n int) bool { return n == mutantChosen }

type mutantNumber interface {
	~int | ~int8 | ~int16 | ~int32 | ~int64 | ~uint | ~uint8 | ~uint16 | ~uint32 | ~uint64 | ~uintptr | ~float32 | ~float64
}

func mutantAdd[T mutantNumber](n int, x, y T) T { if n == mutantChosen { return x - y }; return x + y }
func mutantSub[T mutantNumber](n int, x, y T) T { if n == mutantChosen { return x + y }; return x - y }
func mutantMul[T mutantNumber](n int, x, y T) T { if n == mutantChosen { return x / y }; return x * y }
func mutantQuo[T mutantNumber](n int, x, y T) T { if n == mutantChosen { return x * y }; return x / y }
func mutantRem[T ~int | ~int8 | ~int16 | ~int32 | ~int64 | ~uint | ~uint8 | ~uint16 | ~uint32 | ~uint64](n int, x, y T) T {
	if n == mutantChosen { return x * y }
	return x % y
}
func mutantNeg[T mutantNumber](n int, x T) T { if n == mutantChosen { return x }; return -x }
func mutantLess[T cmp.Ordered](bound, not int, x, y T) bool { if bound == mutantChosen { return x <= y }; return (x < y) != (not == mutantChosen) }
func mutantLessEq[T cmp.Ordered](bound, not int, x, y T) bool { if bound == mutantChosen { return x < y }; return (x <= y) != (not == mutantChosen) }
func mutantMore[T cmp.Ordered](bound, not int, x, y T) bool { if bound == mutantChosen { return x >= y }; return (x > y) != (not == mutantChosen) }
func mutantMoreEq[T cmp.Ordered](bound, not int, x, y T) bool { if bound == mutantChosen { return x > y }; return (x >= y) != (not == mutantChosen) }
`

// suite is the compiled tests that hold a package.
type suite struct {
	bin   string
	tests []compiled
}

type compiled struct{ file, dir string }

func (m *mutator) tests(dir string) (*suite, error) {
	bin, err := os.MkdirTemp("", "mutants")
	if err != nil {
		return nil, err
	}
	s := &suite{bin: bin}
	held := []string{dir}
	for _, other := range strings.Fields(*by) {
		if !slices.Contains(held, other) {
			held = append(held, other)
		}
	}
	for i, p := range held {
		file := filepath.Join(bin, strconv.Itoa(i))
		c := exec.Command("go", "test", "-c", "-vet", "off", "-o", file, p)
		c.Dir = *copied
		if out, err := c.CombinedOutput(); err != nil {
			return nil, fmt.Errorf("the tests of %s cannot be built:\n%s", p, out)
		}
		if _, err := os.Stat(file); err == nil { // else it has none
			s.tests = append(s.tests, compiled{file, filepath.Join(*copied, p)})
		}
	}
	return s, nil
}

// notice reports whether some test fails with a change, or does not end.
func (s *suite) notice(number int) bool {
	temp := filepath.Join(s.bin, fmt.Sprintf("mutant-%d", number))
	_ = os.MkdirAll(temp, 0o755)
	defer os.RemoveAll(temp)
	for _, t := range s.tests {
		ctx, cancel := context.WithTimeout(context.Background(), 90*time.Second)
		c := exec.CommandContext(ctx, t.file, "-test.failfast", "-test.timeout", "60s", "-test.skip", *skip)
		c.Dir = t.dir
		c.Env = append(os.Environ(), fmt.Sprintf("MUTANT=%d", number), "TMPDIR="+temp)
		c.WaitDelay = time.Second
		err := c.Run()
		cancel()
		if err != nil {
			return true
		}
	}
	return false
}
