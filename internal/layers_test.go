// Package internal_test holds the house to its plan: which room may use which, who
// may speak to people, and how long a function may be. docs/ARCHITECTURE.md draws it.
package internal_test

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// floors are the rooms from the top down: each may use those below it only.
var floors = []string{"cli", "jobs", "practice", "work", "watch", "archives", "site", "database", "store", "config", "rules", "platform"}

const module = "revlet/internal/"

type pkg struct {
	ImportPath   string
	Doc          string
	Name         string
	Imports      []string
	TestGoFiles  []string
	XTestGoFiles []string
}

// room is the name of the top folder below internal.
func room(path string) string {
	name, _, _ := strings.Cut(strings.TrimPrefix(path, module), "/")
	return name
}

func packages(t *testing.T) (all []pkg) {
	t.Helper()
	out, err := exec.Command("go", "list", "-json=ImportPath,Doc,Name,Imports,TestGoFiles,XTestGoFiles", "./...").Output()
	require.NoError(t, err)
	for d := json.NewDecoder(strings.NewReader(string(out))); d.More(); {
		var p pkg
		require.NoError(t, d.Decode(&p))
		if p.ImportPath != strings.TrimSuffix(module, "/") {
			all = append(all, p)
		}
	}
	require.Greater(t, len(all), 30)
	return all
}

func TestArrowsPointDown(t *testing.T) {
	for _, p := range packages(t) {
		here := slices.Index(floors, room(p.ImportPath))
		if !assert.GreaterOrEqual(t, here, 0, "%s is in no room of the plan", p.ImportPath) {
			continue
		}
		for _, i := range p.Imports {
			if strings.HasPrefix(i, module) {
				assert.GreaterOrEqual(t, slices.Index(floors, room(i)), here, "%s uses %s, which is above it", p.ImportPath, i)
			}
		}
	}
}

// terminal are libraries that print, or read commands.
var terminal = []string{"github.com/urfave/cli", "github.com/jedib0t/go-pretty", "github.com/vbauerster/mpb", "golang.org/x/term"}

func TestOnlyTheEdgeSpeaksToPeople(t *testing.T) {
	for _, p := range packages(t) {
		if r := room(p.ImportPath); r == "cli" || r == "practice" {
			continue
		}
		for _, i := range p.Imports {
			assert.False(t, slices.ContainsFunc(terminal, func(lib string) bool { return strings.HasPrefix(i, lib) }), "%s imports %s", p.ImportPath, i)
		}
	}
}

func TestEveryPackageIntroducesItself(t *testing.T) {
	for _, p := range packages(t) {
		assert.True(t, strings.HasPrefix(p.Doc, "Package "+p.Name+" "), "%s begins with %q", p.ImportPath, p.Doc)
	}
}

// source are the parsed files of packages that are not tests.
func source(t *testing.T, visit func(name string, set *token.FileSet, f *ast.File)) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return err
		}
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, name, nil, parser.SkipObjectResolution)
		if err == nil {
			visit(name, set, f)
		}
		return err
	}))
}

// options are the names of all options, and commands those of all commands, as the
// source of the command line declares them.
func vocabulary(t *testing.T) (options, commands map[string]bool) {
	options, commands = map[string]bool{}, map[string]bool{}
	declared := regexp.MustCompile(`&?cli\.(\w*Flag|Command)\{\s*Name: "([a-z-]+)"`)
	for _, dir := range []string{"cli", "practice"} {
		files, err := filepath.Glob(dir + "/*.go")
		require.NoError(t, err)
		for _, name := range files {
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			for _, m := range declared.FindAllStringSubmatch(string(text), -1) {
				if m[1] == "Command" {
					commands[m[2]] = true
				} else {
					options[m[2]] = true
				}
			}
		}
	}
	require.Greater(t, len(options), 40)
	require.Greater(t, len(commands), 25)
	return options, commands
}

func TestTheCoreNamesNoCommandAndNoOption(t *testing.T) {
	options, commands := vocabulary(t)
	option := regexp.MustCompile(`--([a-z]+(?:-[a-z]+)*)`)
	command := regexp.MustCompile("revlet ([a-z]+)")
	source(t, func(name string, set *token.FileSet, f *ast.File) {
		if r := room(filepath.ToSlash(name)); r == "cli" || r == "practice" {
			return
		}
		ast.Inspect(f, func(n ast.Node) bool {
			lit, ok := n.(*ast.BasicLit)
			if !ok || lit.Kind != token.STRING {
				return true
			}
			text, err := strconv.Unquote(lit.Value)
			require.NoError(t, err)
			at := set.Position(lit.Pos())
			for _, m := range command.FindAllStringSubmatch(text, -1) {
				assert.False(t, commands[m[1]], "%s names the command %q: %s", at, m[1], text)
			}
			// A word that begins so is an argument for another program.
			if !strings.HasPrefix(text, "--") {
				for _, m := range option.FindAllStringSubmatch(text, -1) {
					assert.False(t, options[m[1]], "%s names the option %q: %s", at, m[1], text)
				}
			}
			return true
		})
	})
}

// mostLines is how long a function may be.
const mostLines = 60

func TestFunctionsAreShort(t *testing.T) {
	source(t, func(_ string, set *token.FileSet, f *ast.File) {
		for _, d := range f.Decls {
			if fn, ok := d.(*ast.FuncDecl); ok {
				lines := set.Position(fn.End()).Line - set.Position(fn.Pos()).Line + 1
				assert.LessOrEqual(t, lines, mostLines, "%s: %s", set.Position(fn.Pos()), fn.Name.Name)
			}
		}
	})
}

// environment are the files that may read environment variables: what a site's own
// settings and the configuration refer to is theirs; all else comes from the top.
var environment = []string{"cli/", "practice/", "site/phpliteral/", "config/"}

func TestTheEnvironmentIsReadAtTheTop(t *testing.T) {
	source(t, func(name string, set *token.FileSet, f *ast.File) {
		name = filepath.ToSlash(name)
		if slices.ContainsFunc(environment, func(p string) bool { return strings.HasPrefix(name, p) }) {
			return
		}
		ast.Inspect(f, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok {
				if x, ok := s.X.(*ast.Ident); ok && x.Name == "os" {
					assert.NotContains(t, []string{"Getenv", "LookupEnv"}, s.Sel.Name, "%s", set.Position(s.Pos()))
				}
			}
			return true
		})
	})
}
