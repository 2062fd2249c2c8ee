// Package schematest keeps the schemas in docs as the types are.
package schematest

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Comments returns what the Go files in the folder say of the fields of types.
func Comments(t *testing.T, dir string) func(t reflect.Type, field string) string {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(dir, "*.go"))
	require.NoError(t, err)
	said := map[string]string{}
	for _, name := range files {
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ParseComments|parser.SkipObjectResolution)
		require.NoError(t, err)
		ast.Inspect(f, func(n ast.Node) bool {
			spec, ok := n.(*ast.TypeSpec)
			if !ok {
				return true
			}
			if s, ok := spec.Type.(*ast.StructType); ok {
				for _, field := range s.Fields.List {
					for _, id := range field.Names {
						said[spec.Name.Name+"."+id.Name] = strings.Join(strings.Fields(field.Doc.Text()), " ")
					}
				}
			}
			return false
		})
	}
	return func(t reflect.Type, field string) string { return said[t.Name()+"."+field] }
}

// UpToDate compares a schema with its file; update writes it.
func UpToDate(t *testing.T, schema map[string]any, file string, update bool) {
	t.Helper()
	want, err := json.MarshalIndent(schema, "", "  ")
	require.NoError(t, err)
	if update {
		require.NoError(t, os.WriteFile(file, append(want, '\n'), 0o644))
	}
	got, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.JSONEq(t, string(want), string(got), "run it with UPDATE=1")
}
