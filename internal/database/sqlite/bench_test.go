package sqlite

import (
	"bytes"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"revlet/internal/database"
	"revlet/internal/platform/disk"
)

const benchRows = 50_000

// keepersLog makes a database with one long table and gives its unit.
func keepersLog(b *testing.B) (file string, u database.Unit, s database.Snapshot) {
	b.Helper()
	file = filepath.Join(b.TempDir(), "museum.db")
	db, err := sql.Open("sqlite", dsn(file, ""))
	require.NoError(b, err)
	defer db.Close()
	_, err = db.Exec(fmt.Sprintf(`CREATE TABLE log (id INTEGER PRIMARY KEY, keeper TEXT, wind REAL, entry TEXT);
		WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d)
		INSERT INTO log SELECT i, 'keeper ' || i %% 3, i / 7.0, 'Lamp lit at dusk; wind N, sea calm. It''s all well.' FROM n`, benchRows))
	require.NoError(b, err)
	source, err := Open(b.Context(), Config{Path: file, Scratch: b.TempDir(), Disk: &disk.Disk{}})
	require.NoError(b, err)
	b.Cleanup(func() { _ = source.Close() })
	s, err = source.Snapshot(b.Context())
	require.NoError(b, err)
	b.Cleanup(func() { _ = s.Close() })
	for _, unit := range s.Units() {
		if unit.Kind == database.Rows {
			return file, unit, s
		}
	}
	b.Fatal("no rows")
	return file, u, s
}

func BenchmarkDump(b *testing.B) {
	_, u, s := keepersLog(b)
	var text bytes.Buffer
	for b.Loop() {
		text.Reset()
		n, err := s.Dump(b.Context(), u, &text)
		if err != nil || n != benchRows {
			b.Fatal(n, err)
		}
		b.SetBytes(int64(text.Len()))
	}
}

func BenchmarkLoad(b *testing.B) {
	file, u, s := keepersLog(b)
	texts := map[string][]byte{}
	for _, unit := range s.Units() {
		var text bytes.Buffer
		_, err := s.Dump(b.Context(), unit, &text)
		require.NoError(b, err)
		texts[unit.Kind+unit.Table] = text.Bytes()
	}
	b.SetBytes(int64(len(texts[u.Kind+u.Table])))
	box := filepath.Join(filepath.Dir(file), ".revlet-box")
	for b.Loop() {
		target := ForRestore(Config{Path: file, Disk: &disk.Disk{}, Beside: box, Mode: FileMode{Perm: 0o640, UID: os.Getuid(), GID: os.Getgid()}})
		p := target.Plan("1")
		if err := target.Prepare(b.Context(), p, nil); err != nil {
			b.Fatal(err)
		}
		for _, unit := range s.Units() {
			if _, err := target.Load(b.Context(), p, unit, bytes.NewReader(texts[unit.Kind+unit.Table])); err != nil {
				b.Fatal(err)
			}
		}
		if err := target.DropStage(b.Context(), p); err != nil {
			b.Fatal(err)
		}
		_ = target.Close()
		_ = os.RemoveAll(box)
	}
}
