package engine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"revlet/internal/database"
	"revlet/internal/database/sqlite"
	"revlet/internal/platform/disk"
	"revlet/internal/site"
	"revlet/internal/site/tree"
)

// exposed tells whether others could put something else in a file's place, or that of a folder above it, while root has
// SQLite open it and make files beside it, by its path.
func exposed(file string) bool {
	return os.Geteuid() == 0 && disk.KeepsModes && !disk.OnlyRoots(filepath.Dir(file))
}

// localFile opens a database that is a file on this machine. Root opens a copy of one that others can exchange, made through
// handles and without following links.
func localFile(ctx context.Context, d *disk.Disk, db site.Database, scratch string, open func(context.Context, sqlite.Config) (*sqlite.Database, error)) (database.Source, error) {
	real, err := disk.Way(db.Path)
	if err != nil {
		return nil, fmt.Errorf("database file: %w", err)
	}
	if err := db.MayBe(real); err != nil {
		return nil, err
	}
	if !exposed(real) {
		return open(ctx, sqlite.Config{Path: real, Scratch: scratch, Disk: d})
	}
	in, err := tree.Local(d).Folder(ctx, "/")
	if err != nil {
		return nil, err
	}
	local, err := fetchFile(ctx, d, in, strings.TrimPrefix(real, "/"), scratch)
	if err = errors.Join(err, in.Close()); err != nil {
		return nil, err
	}
	return copied(ctx, d, local, scratch)
}
