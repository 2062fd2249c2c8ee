package config

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/schema/schematest"
)

// All faults of a file are told at once, each with its place, and none that another one only brings about.
func TestProblems(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "revlet.yaml")
	text := `state: ./state
stroes: {}
stores:
  here:
    folder: ./archives
    colour: red
  far: {sftp: "sftp://keeper@host.example/revlet", pasword_file: x}
  odd: 5
sites:
  one:
    root: ./one
    stores: [here, far, odd]
    schedule: ["full, every blue moon"]
  two:
    root: [./two]
    stores: [here]
  three:
    root: ./three
    stores: [here, nowhere]
  four:
    root: ./four
    stores: [far]
    keep: ["newest 10"]
    chekc: {path: /}
at_once: many
`
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	c, found := Problems(file)
	var all []string
	for _, err := range found {
		all = append(all, strings.TrimPrefix(err.Error(), file+":"))
	}
	for _, want := range []string{`2:1: unknown key "stroes"; did you mean "stores"?`, `6:5: unknown key "colour"`, `7:52: unknown key "pasword_file"; did you mean "password_file"?`, "8:8: entries (`key: value`) belongs here, not a number",
		`blue moon`, "15:11: a text belongs here, not a list", `nowhere`, `24:5: unknown key "chekc"; did you mean "check"?`, "25:10: a number belongs here, not a text"} {
		n := 0
		for _, one := range all {
			if strings.Contains(one, want) {
				n++
			}
		}
		assert.Equal(t, 1, n, "%s in\n%s", want, strings.Join(all, "\n"))
	}
	assert.Len(t, all, 9, strings.Join(all, "\n"))
	require.NotNil(t, c)
	assert.Equal(t, []string{"four"}, c.SiteNames(), "what is right is read")

	require.NoError(t, os.WriteFile(file, []byte("sites: {a: {root: /x"), 0o600))
	_, found = Problems(file)
	assert.Len(t, found, 1)
	_, found = Problems(filepath.Join(dir, "nothing"))
	assert.Len(t, found, 1)
}

// What is wrong is said in words that somebody who has never seen the program's source understands.
func TestPlainWords(t *testing.T) {
	for text, want := range map[string]string{
		"stores: 5":                             "1:9: entries (`key: value`) belongs here, not a number",
		"sites: {a: {root: [1]}}":               "a text belongs here, not a list",
		"at_once: many":                         "a number belongs here, not a text",
		"sites: {a: {root: /x, skip: yes}}":     "a list (`[…]`) belongs here, not a text",
		"sites: {a: {root: /x}, a: {root: /y}}": `"a" stands in line 1 already`,
	} {
		_, err := Parse("revlet.yaml", []byte(text))
		assert.ErrorContains(t, err, want, text)
		assert.NotContains(t, err.Error(), "Go ")
		assert.NotContains(t, err.Error(), "unmarshal")
	}
}

// docs/config.schema.json is made of the types and what is said of them.
func TestTheSchemaIsUpToDate(t *testing.T) {
	schematest.UpToDate(t, Schema(schematest.Comments(t, ".")), "../../docs/config.schema.json", os.Getenv("UPDATE") != "")
}
