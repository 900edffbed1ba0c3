// Command vet runs vet's checks on the module for other systems, named as linux/arm64, from the sources alone: go vet would
// compile all dependencies for each of them first, which takes minutes a system on a machine that has not done it yet.
package main

import (
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"go/types"
	"os"
	"strings"
	"sync"

	"golang.org/x/tools/go/analysis"
	"golang.org/x/tools/go/analysis/checker"
	"golang.org/x/tools/go/analysis/passes/appends"
	"golang.org/x/tools/go/analysis/passes/asmdecl"
	"golang.org/x/tools/go/analysis/passes/assign"
	"golang.org/x/tools/go/analysis/passes/atomic"
	"golang.org/x/tools/go/analysis/passes/bools"
	"golang.org/x/tools/go/analysis/passes/buildtag"
	"golang.org/x/tools/go/analysis/passes/composite"
	"golang.org/x/tools/go/analysis/passes/copylock"
	"golang.org/x/tools/go/analysis/passes/defers"
	"golang.org/x/tools/go/analysis/passes/directive"
	"golang.org/x/tools/go/analysis/passes/errorsas"
	"golang.org/x/tools/go/analysis/passes/framepointer"
	"golang.org/x/tools/go/analysis/passes/httpresponse"
	"golang.org/x/tools/go/analysis/passes/ifaceassert"
	"golang.org/x/tools/go/analysis/passes/loopclosure"
	"golang.org/x/tools/go/analysis/passes/lostcancel"
	"golang.org/x/tools/go/analysis/passes/nilfunc"
	"golang.org/x/tools/go/analysis/passes/printf"
	"golang.org/x/tools/go/analysis/passes/shift"
	"golang.org/x/tools/go/analysis/passes/sigchanyzer"
	"golang.org/x/tools/go/analysis/passes/slog"
	"golang.org/x/tools/go/analysis/passes/stdmethods"
	"golang.org/x/tools/go/analysis/passes/stringintconv"
	"golang.org/x/tools/go/analysis/passes/structtag"
	"golang.org/x/tools/go/analysis/passes/testinggoroutine"
	"golang.org/x/tools/go/analysis/passes/tests"
	"golang.org/x/tools/go/analysis/passes/timeformat"
	"golang.org/x/tools/go/analysis/passes/unmarshal"
	"golang.org/x/tools/go/analysis/passes/unreachable"
	"golang.org/x/tools/go/analysis/passes/unsafeptr"
	"golang.org/x/tools/go/analysis/passes/unusedresult"
	"golang.org/x/tools/go/packages"
)

// checks are those of go vet.
var checks = []*analysis.Analyzer{
	appends.Analyzer, asmdecl.Analyzer, assign.Analyzer, atomic.Analyzer, bools.Analyzer, buildtag.Analyzer, composite.Analyzer,
	copylock.Analyzer, defers.Analyzer, directive.Analyzer, errorsas.Analyzer, framepointer.Analyzer, httpresponse.Analyzer,
	ifaceassert.Analyzer, loopclosure.Analyzer, lostcancel.Analyzer, nilfunc.Analyzer, printf.Analyzer, shift.Analyzer,
	sigchanyzer.Analyzer, slog.Analyzer, stdmethods.Analyzer, stringintconv.Analyzer, structtag.Analyzer, testinggoroutine.Analyzer,
	tests.Analyzer, timeformat.Analyzer, unmarshal.Analyzer, unreachable.Analyzer, unsafeptr.Analyzer, unusedresult.Analyzer,
}

func main() {
	type result struct {
		found []string
		err   error
	}
	results := make([]result, len(os.Args)-1)
	var all sync.WaitGroup
	for i, system := range os.Args[1:] {
		all.Go(func() { results[i].found, results[i].err = vet(system) })
	}
	all.Wait()
	failed := false
	for i, r := range results {
		for _, f := range r.found {
			fmt.Fprintf(os.Stderr, "%s: %s\n", os.Args[i+1], f)
		}
		if r.err != nil {
			fmt.Fprintf(os.Stderr, "%s: %v\n", os.Args[i+1], r.err)
		}
		failed = failed || r.err != nil || len(r.found) > 0
	}
	if failed {
		os.Exit(1)
	}
}

// vet checks the module for a system.
func vet(system string) (found []string, err error) {
	goos, goarch, ok := strings.Cut(system, "/")
	if !ok {
		return nil, errors.New("a system is named as linux/arm64 is")
	}
	fset := token.NewFileSet()
	list, err := packages.Load(&packages.Config{
		Mode: packages.NeedName | packages.NeedFiles | packages.NeedCompiledGoFiles | packages.NeedImports | packages.NeedDeps | packages.NeedModule | packages.NeedTypesSizes,
		Env:  append(os.Environ(), "GOOS="+goos, "GOARCH="+goarch, "CGO_ENABLED=0"),
		Fset: fset, Tests: true,
	}, "./...")
	if err != nil {
		return nil, err
	}
	// Dependencies first.
	packages.Visit(list, nil, func(p *packages.Package) {
		for _, e := range p.Errors {
			found = append(found, e.Error())
		}
		found = append(found, typed(fset, p)...)
	})
	if len(found) > 0 {
		return found, nil
	}
	packages.Visit(list, nil, func(p *packages.Package) {
		for path, q := range p.Imports {
			if !ours(q) {
				delete(p.Imports, path) // the checks are for what is ours
			}
		}
	})
	graph, err := checker.Analyze(checks, list, nil)
	if err != nil {
		return nil, err
	}
	for _, act := range graph.Roots {
		if act.Err != nil {
			return found, act.Err
		}
		for _, d := range act.Diagnostics {
			found = append(found, fmt.Sprintf("%s: %s", fset.Position(d.Pos), d.Message))
		}
	}
	return found, nil
}

func ours(p *packages.Package) bool { return p.Module != nil && p.Module.Main }

// typed parses and types a package. Of others' packages only what they offer is looked at.
func typed(fset *token.FileSet, p *packages.Package) (found []string) {
	p.Fset = fset
	if p.PkgPath == "unsafe" {
		p.Types, p.TypesInfo = types.Unsafe, new(types.Info)
		return nil
	}
	p.TypesInfo = &types.Info{
		Types: map[ast.Expr]types.TypeAndValue{}, Instances: map[*ast.Ident]types.Instance{}, Defs: map[*ast.Ident]types.Object{}, Uses: map[*ast.Ident]types.Object{},
		Implicits: map[ast.Node]types.Object{}, Selections: map[*ast.SelectorExpr]*types.Selection{}, Scopes: map[ast.Node]*types.Scope{}, FileVersions: map[*ast.File]string{},
	}
	mode := parser.SkipObjectResolution
	if ours(p) {
		mode |= parser.ParseComments // where the checks are told of systems
	}
	for _, name := range p.CompiledGoFiles {
		f, err := parser.ParseFile(fset, name, nil, mode)
		if err != nil {
			return append(found, err.Error())
		}
		p.Syntax = append(p.Syntax, f)
	}
	config := types.Config{
		Sizes: p.TypesSizes, IgnoreFuncBodies: !ours(p), FakeImportC: true,
		Importer: importer(func(path string) (*types.Package, error) {
			if path == "unsafe" {
				return types.Unsafe, nil
			}
			if q := p.Imports[path]; q != nil && q.Types != nil {
				return q.Types, nil
			}
			return nil, fmt.Errorf("%s is not there", path)
		}),
		Error: func(err error) {
			if ours(p) {
				found = append(found, err.Error())
			}
		},
	}
	if p.Module != nil && p.Module.GoVersion != "" {
		config.GoVersion = "go" + p.Module.GoVersion
	}
	p.Types, _ = config.Check(p.PkgPath, fset, p.Syntax, p.TypesInfo) // its error was told already
	if !ours(p) {
		p.Syntax = nil
	}
	return found
}

type importer func(path string) (*types.Package, error)

func (f importer) Import(path string) (*types.Package, error) { return f(path) }
