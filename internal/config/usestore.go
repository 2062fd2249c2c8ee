package config

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"revlet/internal/platform/disk"
)

// UseStore has sites of the file at path use one store more, and keeps all else as it stands there. Their entries
// have to stand in that very file.
func UseStore(d *disk.Disk, path, name string, sites []string) error {
	old, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("read the configuration: %w", err)
	}
	effective, err := Parse(path, old)
	if err != nil {
		return err
	}
	var raw Config
	if err := yaml.UnmarshalWithOptions(old, &raw, yaml.DisallowUnknownField()); err != nil {
		return err
	}
	text, meant := string(old), map[string]Site{}
	for _, site := range sites {
		entry, here := raw.Sites[site]
		all := slices.Clone(effective.Sites[site].Stores)
		if slices.Contains(all, name) {
			continue
		}
		if here {
			text, err = withStore(text, site, name, all)
		} else {
			err = errors.New("its entry stands in another file")
		}
		if err != nil {
			return fmt.Errorf("add %s to `stores:` of site %s yourself: %w", name, site, err)
		}
		entry.Stores = append(all, name)
		meant[site] = entry
	}
	if err := asMeant(path, old, text, nil, meant); err != nil {
		return fmt.Errorf("the new configuration would not be valid: %w", err)
	}
	if err := d.WriteFile(path, []byte(text), 0o600); err != nil {
		return fmt.Errorf("write the configuration: %w", err)
	}
	return nil
}

// withStore adds a store to one site's list in a text; all are those that it uses already.
func withStore(text, site, name string, all []string) (string, error) {
	entry, err := siteNode(text, site)
	if err != nil {
		return "", err
	}
	lines := strings.Split(text, "\n")
	for _, pair := range entry.Values {
		if pair.Key.String() != "stores" {
			continue
		}
		list, ok := pair.Value.(*ast.SequenceNode)
		switch {
		case !ok || len(list.Values) == 0:
			return "", errors.New("its `stores:` is no list")
		case list.IsFlowStyle:
			// Columns count characters, lines and columns from 1.
			line := []rune(lines[list.End.Position.Line-1])
			at := list.End.Position.Column - 1
			before := string(line[:at])
			if trimmed := strings.TrimRight(before, " "); trimmed != "" {
				before = trimmed
			}
			lines[list.End.Position.Line-1] = before + ", " + quote(name) + string(line[at:])
		default:
			last := &lastLine{}
			ast.Walk(last, list)
			indent := strings.Repeat(" ", list.Start.Position.Column-1)
			lines = slices.Insert(lines, last.line, indent+"- "+quote(name))
		}
		return strings.Join(lines, "\n"), nil
	}
	// It takes its stores from the defaults.
	if entry.IsFlowStyle || len(entry.Values) == 0 {
		return "", errors.New("it is written on one line")
	}
	first := entry.Values[0].Key.GetToken().Position
	lines = slices.Insert(lines, first.Line-1, strings.Repeat(" ", first.Column-1)+"stores: "+flow(append(slices.Clone(all), name)))
	return strings.Join(lines, "\n"), nil
}

// siteNode finds a site's entry in a text.
func siteNode(text, site string) (*ast.MappingNode, error) {
	file, err := parser.ParseBytes([]byte(text), parser.ParseComments)
	if err != nil {
		return nil, err
	}
	for _, doc := range file.Docs {
		inner, ok := valueOf(doc.Body, "sites")
		if !ok {
			continue
		}
		entry, ok := valueOf(inner, site)
		if mapping, is := entry.(*ast.MappingNode); ok && is {
			return mapping, nil
		}
	}
	return nil, errors.New("its entry cannot be found")
}

// valueOf is what stands for a key in a mapping.
func valueOf(n ast.Node, key string) (ast.Node, bool) {
	mapping, ok := n.(*ast.MappingNode)
	if !ok {
		return nil, false
	}
	for _, pair := range mapping.Values {
		if pair.Key.GetToken().Value == key {
			return pair.Value, true
		}
	}
	return nil, false
}
