package sftp

import (
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"revlet/internal/platform/disk"
	"revlet/internal/store"
	"revlet/internal/store/sshconn"
	"revlet/internal/store/sshconn/sshtest"
)

// file is one name that the far end lists.
type file struct {
	name string
	mode fs.FileMode
}

func (f file) Name() string       { return f.name }
func (f file) Size() int64        { return 5 }
func (f file) Mode() fs.FileMode  { return f.mode }
func (f file) ModTime() time.Time { return time.Unix(0, 0) }
func (f file) IsDir() bool        { return f.mode.IsDir() }
func (f file) Sys() any           { return nil }

// listing answers every folder with the names it gives, n of them; -1 is without end.
type listing struct {
	file
	n int64
}

func (l listing) Filelist(*sftp.Request) (sftp.ListerAt, error) { return l, nil }

// ListAt implements sftp.ListerAt.
func (l listing) ListAt(out []os.FileInfo, at int64) (int, error) {
	for i := range out {
		if l.n >= 0 && at+int64(i) >= l.n {
			return i, io.EOF
		}
		out[i] = l.file
	}
	return len(out), nil
}

// liar starts an SSH server that lists what it is told to.
func liar(t *testing.T, l listing) *Store {
	address := sshtest.Start(t, sshtest.Server{Subsystem: func(channel ssh.Channel) {
		_ = sftp.NewRequestServer(channel, sftp.Handlers{FileList: l}).Serve()
	}})
	s := New(Options{Dir: "revlet", Lanes: 1, Where: "far", Dialer: sshconn.Dialer{Host: address, User: "keeper",
		Auth:  func() ([]ssh.AuthMethod, error) { return nil, nil },
		Hosts: &sshconn.Hosts{Disk: &disk.Disk{}, File: filepath.Join(t.TempDir(), "known_hosts"), Trust: true}}})
	t.Cleanup(func() { _ = s.Close() })
	return s
}

// A listing without end was kept in memory as far as it went.
func TestAListingWithoutEndIsRefused(t *testing.T) {
	for name, l := range map[string]listing{
		"names":              {file{"object", 0o644}, -1},
		"long names":         {file{strings.Repeat("x", 10_000), 0o644}, -1},
		"folders in folders": {file{"more", fs.ModeDir | 0o755}, 1},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := liar(t, l).List(t.Context(), "kestrelpoint")
			require.Error(t, err)
			if l.n > 0 {
				assert.ErrorIs(t, err, store.ErrEndless)
			}
		})
	}
}

// A far end that gives names of more than one element leads nowhere else.
func TestNamesThatLeadElsewhereArePassedOver(t *testing.T) {
	for _, name := range []string{"../../..", "..", ".", `a\b`, "a\x00b", ".hidden"} {
		s := liar(t, listing{file{name, 0o644}, 1})
		all, err := s.List(t.Context(), "kestrelpoint")
		require.NoError(t, err, "%q", name)
		assert.Empty(t, all, "%q", name)
		folders, err := liar(t, listing{file{name, fs.ModeDir | 0o755}, 1}).Folders(t.Context(), "")
		require.NoError(t, err, "%q", name)
		assert.Empty(t, folders, "%q", name)
	}
}
