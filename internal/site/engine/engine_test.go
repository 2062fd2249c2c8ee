package engine

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/database/sqlite"
	"revlet/internal/platform/disk"
	"revlet/internal/practice/lampblack"
	"revlet/internal/site"
	"revlet/internal/site/tree"
)

func TestAnEngineIsOpenedByItsName(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, lampblack.Build(t.Context(), dir, "http://kestrelpoint.example"))
	db := site.Database{Label: "main", Engine: "sqlite", Path: filepath.Join(dir, lampblack.DatabaseFile)}
	s, err := Source(t.Context(), &disk.Disk{}, db, t.TempDir())
	require.NoError(t, err)
	defer s.Close()
	tables, err := s.Tables(t.Context())
	require.NoError(t, err)
	assert.NotEmpty(t, tables)
	target, err := Target(t.Context(), &disk.Disk{}, db, sqlite.FileMode{}, "")
	require.NoError(t, err)
	assert.Equal(t, 1, target.Lanes())
	copied, err := CopyFile(t.Context(), &disk.Disk{}, tree.Local(nil).Anywhere(t.Context()), db.Path, t.TempDir())
	require.NoError(t, err)
	assert.FileExists(t, copied)

	db.Engine = "dbase"
	_, err = Source(t.Context(), &disk.Disk{}, db, "")
	assert.ErrorContains(t, err, `"dbase"`)
	_, err = Target(t.Context(), &disk.Disk{}, db, sqlite.FileMode{}, "")
	assert.ErrorContains(t, err, `"dbase"`)
	for _, gone := range []string{"mysql", "postgres"} {
		_, err = Source(t.Context(), &disk.Disk{}, site.Database{Engine: gone, Host: "127.0.0.1", Port: 1, User: "keeper", Password: "very-secret", Name: "x"}, "")
		require.Error(t, err, gone)
		assert.NotContains(t, err.Error(), "very-secret")
	}
}

func TestStatementsOfEveryMake(t *testing.T) {
	for _, make := range []string{"mysql", "postgres", "sqlite"} {
		all, err := Statements(make, strings.NewReader("CREATE TABLE a (b int);\nINSERT INTO a VALUES (';');\n"))
		require.NoError(t, err, make)
		assert.Len(t, all, 2, make)
	}
	_, err := Statements("dbase", strings.NewReader(""))
	assert.Error(t, err)
	assert.True(t, IsFile([]byte(sqlite.Magic)))
	assert.False(t, IsFile([]byte("<?php")))
}
