//go:build unix

package process

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
)

// ErrClosedWay is wrapped by errors about folders above what a guest is given that others may not pass.
var ErrClosedWay = errors.New("other accounts may not pass")

// CanPass makes sure that a guest could come as far as a folder of ours: that everybody may pass what lies above.
func CanPass(ours string) error {
	for dir := filepath.Dir(ours); ; dir = filepath.Dir(dir) {
		info, err := os.Stat(dir)
		if err != nil {
			return err
		}
		if info.Mode()&1 == 0 {
			return fmt.Errorf("%s: %w", dir, ErrClosedWay)
		}
		if dir == filepath.Dir(dir) {
			return nil
		}
	}
}

// Open lets the guest pass folders of ours, and see nothing in them.
func (g *Guest) Open(ours ...string) error {
	for _, dir := range ours {
		info, err := os.Stat(dir)
		if err != nil {
			return err
		}
		if err := errors.Join(os.Chown(dir, -1, g.Way), os.Chmod(dir, info.Mode().Perm()|0o010)); err != nil {
			return err
		}
	}
	return nil
}

// Own gives trees to the guest: nobody else may be able to change them meanwhile. Links are given, and not
// what they lead to.
func (g *Guest) Own(trees ...string) error {
	for _, tree := range trees {
		err := filepath.WalkDir(tree, func(path string, _ fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			return os.Lchown(path, g.UID, g.GID)
		})
		if err != nil {
			return fmt.Errorf("give the copy to an account without rights: %w", err)
		}
	}
	return nil
}

// Start starts a command as the guest, with all that it will start, in a group of its own. An account without a
// name gets no rights by programs that give some (prctl(2), PR_SET_NO_NEW_PRIVS).
func (g *Guest) Start(cmd *exec.Cmd) error {
	group(cmd)
	cmd.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(g.UID), Gid: uint32(g.GID), Groups: []uint32{uint32(g.Way)}}
	if g.named {
		return cmd.Start()
	}
	started := make(chan error)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread ends with this, for it cannot get rights any more
		if err := noNewRights(); err != nil {
			started <- err
			return
		}
		started <- cmd.Start()
	}()
	return <-started
}

// endTries is how often what runs as a guest is told to end.
const endTries = 5

// End ends everything that runs as the guest, whatever group it has made for itself.
func (g *Guest) End() error {
	if g.named {
		return nil
	}
	for range endTries {
		cmd := exec.Command("sh", "-c", "kill -9 -1")
		As(cmd, g.UID, g.GID)
		cmd.Dir = "/"
		_ = cmd.Run() // it ends itself, too
		busy, err := owners()
		if err != nil || !busy[g.UID] {
			return err
		}
	}
	return fmt.Errorf("what was started to serve the copy does not end; it runs as the account %d", g.UID)
}

// EndOwnerOf ends what runs as the guest that a tree was given to by a run that died.
func EndOwnerOf(tree string) error {
	info, err := os.Lstat(tree)
	if err != nil || os.Geteuid() != 0 {
		return nil
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok || !IsGuest(int(st.Uid)) {
		return nil
	}
	return (&Guest{UID: int(st.Uid), GID: int(st.Uid)}).End()
}

// owners are the numbers of accounts that something runs as, where the system tells it in files (proc(5)).
func owners() (map[int]bool, error) {
	all := map[int]bool{}
	files, err := filepath.Glob("/proc/[0-9]*/status")
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			continue // it has ended meanwhile
		}
		_, after, _ := strings.Cut(string(text), "\nUid:")
		var ids [4]int
		n, _ := fmt.Sscan(after, &ids[0], &ids[1], &ids[2], &ids[3])
		if strings.Contains(string(text), "\nState:\tZ") {
			continue // it has ended, and nobody has asked how
		}
		for _, id := range ids[:n] {
			all[id] = true
		}
	}
	return all, nil
}
