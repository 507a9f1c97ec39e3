// Command mutate changes lines of the rooms that must not fail, one at a time, and counts how many of the changes a
// test notices. The sample is seeded, so that it is the same each time.
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
	"slices"
	"strconv"
	"strings"
	"time"
)

// rooms are changed, and held by the tests of these packages.
var rooms = []struct {
	dir   string
	tests []string
}{
	{"core/plan", []string{"./core/plan"}},
	{"internal/access", []string{"./internal/access"}},
	{"internal/work/steer", []string{"./internal/work/steer"}},
}

const (
	wanted  = 0.9
	patient = 5 * time.Minute // that one change may be tested
)

// change is one that can be made to a file: at a place, in words, and how.
type change struct {
	room  int
	file  string
	line  int
	says  string
	apply func()
	undo  func()
}

func main() {
	n := flag.Int("n", 20, "changes in each room")
	seed := flag.Uint64("seed", 11, "of the sample")
	only := flag.String("room", "", "the only one to be changed, such as core/plan")
	flag.Parse()
	if err := run(*n, *seed, *only); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(n int, seed uint64, only string) error {
	work, err := os.MkdirTemp("", "mutate-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(work) }()
	random := rand.New(rand.NewPCG(seed, 1))
	tried, noticed := 0, 0
	for room := range rooms {
		if only != "" && rooms[room].dir != only {
			continue
		}
		files := token.NewFileSet()
		trees, all, err := changes(files, room)
		if err != nil {
			return err
		}
		if out, err := exec.Command("go", append([]string{"vet"},
			rooms[room].tests...)...).CombinedOutput(); err != nil {
			return fmt.Errorf("as it is, %s does not build: %w\n%s", rooms[room].dir, err, out)
		}
		random.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		for _, c := range all[:min(n, len(all))] {
			c.apply()
			var text bytes.Buffer
			err := format.Node(&text, files, trees[c.file])
			c.undo()
			if err != nil {
				return err
			}
			lived, built, err := try(work, c, text.Bytes())
			if err != nil {
				return err
			}
			if !built {
				continue
			}
			tried++
			if lived {
				fmt.Printf("LIVES   %s:%d: %s\n", c.file, c.line, c.says)
				continue
			}
			noticed++
			fmt.Printf("noticed %s:%d: %s\n", c.file, c.line, c.says)
		}
	}
	share := float64(noticed) / float64(max(1, tried))
	fmt.Printf("%d of %d changes were noticed, %.0f %%\n", noticed, tried, 100*share)
	if share < wanted {
		return fmt.Errorf("fewer than %.0f %% of the changes were noticed", 100*wanted)
	}
	return nil
}

// try tests a changed file in the place of its own. A change that does not compile is none.
func try(work string, c change, text []byte) (lived, built bool, err error) {
	real, err := filepath.Abs(c.file)
	if err != nil {
		return false, false, err
	}
	path := filepath.Join(work, "changed.go")
	if err := os.WriteFile(path, text, 0o600); err != nil {
		return false, false, err
	}
	raw, err := json.Marshal(map[string]map[string]string{"Replace": {real: path}})
	if err != nil {
		return false, false, err
	}
	overlay := filepath.Join(work, "overlay.json")
	if err := os.WriteFile(overlay, raw, 0o600); err != nil {
		return false, false, err
	}
	if exec.Command("go", "vet", "-overlay", overlay, "./"+filepath.Dir(c.file)).Run() != nil {
		return false, false, nil
	}
	ctx, stop := context.WithTimeout(context.Background(), patient)
	defer stop()
	args := append([]string{"test", "-count=1", "-failfast", "-timeout", patient.String(), "-overlay", overlay},
		rooms[c.room].tests...)
	err = exec.CommandContext(ctx, "go", args...).Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		return false, true, err
	}
	return err == nil, true, nil
}

// opposite operators: what a slip of the hand makes of a comparison.
var opposite = map[token.Token]token.Token{token.EQL: token.NEQ, token.NEQ: token.EQL, token.LSS: token.GEQ,
	token.GEQ: token.LSS, token.GTR: token.LEQ, token.LEQ: token.GTR, token.LAND: token.LOR, token.LOR: token.LAND,
	token.ADD: token.SUB, token.SUB: token.ADD}

// changes lists all that can be made in a room.
func changes(files *token.FileSet, room int) (map[string]*ast.File, []change, error) {
	paths, err := filepath.Glob(filepath.Join(rooms[room].dir, "*.go"))
	if err != nil {
		return nil, nil, err
	}
	trees := map[string]*ast.File{}
	var all []change
	for _, path := range paths {
		if strings.HasSuffix(path, "_test.go") {
			continue
		}
		tree, err := parser.ParseFile(files, path, nil, parser.ParseComments)
		if err != nil {
			return nil, nil, err
		}
		trees[path] = tree
		add := func(at token.Pos, says string, apply, undo func()) {
			all = append(all, change{room, path, files.Position(at).Line, says, apply, undo})
		}
		ast.Inspect(tree, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.GenDecl: // bounds and times: no test says how long exactly
				return n.Tok != token.CONST
			case *ast.ReturnStmt: // beside an error nobody looks at the rest
				last, isName := ast.Expr(nil), false
				if len(n.Results) > 1 {
					last = n.Results[len(n.Results)-1]
				}
				if name, ok := last.(*ast.Ident); ok {
					isName = name.Name == "nil"
				}
				return last == nil || isName
			case *ast.BinaryExpr:
				was := n.Op
				to, ok := opposite[was]
				if text, isText := n.X.(*ast.BasicLit); isText && text.Kind == token.STRING || !ok || isJoin(n) {
					return true
				}
				add(n.OpPos, fmt.Sprintf("%s for %s", to, was), func() { n.Op = to }, func() { n.Op = was })
			case *ast.BasicLit:
				if v, err := strconv.Atoi(n.Value); err == nil && n.Kind == token.INT && v > 0 {
					was := n.Value
					add(n.Pos(), fmt.Sprintf("%d for %d", v+1, v), func() { n.Value = strconv.Itoa(v + 1) },
						func() { n.Value = was })
				}
			case *ast.Ident:
				if was := n.Name; was == "true" || was == "false" {
					to := map[string]string{"true": "false", "false": "true"}[was]
					add(n.Pos(), to+" for "+was, func() { n.Name = to }, func() { n.Name = was })
				}
			case *ast.BlockStmt:
				for i, s := range n.List {
					if call, ok := s.(*ast.ExprStmt); ok {
						was := n.List
						add(call.Pos(), "a call is left out", func() {
							n.List = slices.Delete(slices.Clone(was), i,
								i+1)
						},
							func() { n.List = was })
					}
				}
			}
			return true
		})
	}
	return trees, all, nil
}

// isJoin tells a text that is put together from a sum.
func isJoin(n *ast.BinaryExpr) bool {
	found := false
	ast.Inspect(n, func(n ast.Node) bool {
		if l, ok := n.(*ast.BasicLit); ok && l.Kind == token.STRING {
			found = true
		}
		return !found
	})
	return found && (n.Op == token.ADD)
}
