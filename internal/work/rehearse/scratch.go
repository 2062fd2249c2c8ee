package rehearse

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"revlet/internal/platform/disk"
	"revlet/internal/platform/process"
	"revlet/internal/site"
)

// This file makes the scratch space of a rehearsal, and clears it with all that runs there.

const (
	// serverNote is the file in the scratch folder that says where the folder for database servers is.
	serverNote = "server"
	// roomAside is where the copy lies in that one, if those who serve it cannot come to the scratch folder.
	roomAside = "copy"
	// databases is the folder of a copy's database files that lay outside its webroot.
	databases = "databases"
)

// makeScratch makes the folders. The one for servers has a name that nobody knows before: in a folder that everybody
// may write to, a known one could be there already, or be a link, and belong to somebody else.
func (j *Job) makeScratch() error {
	if err := j.Disk.MkdirAll(j.Scratch, 0o700); err != nil {
		return err
	}
	temporary, err := filepath.EvalSymlinks(j.Temporary)
	if err != nil {
		return err
	}
	if os.Geteuid() == 0 && !disk.OnlyRoots(temporary) {
		return fmt.Errorf("others could exchange what lies in %s", j.Temporary)
	}
	j.server, j.room = filepath.Join(temporary, "revlet-"+strings.ToLower(rand.Text()[:10])), j.Scratch
	if err := j.Disk.WriteFile(filepath.Join(j.Scratch, serverNote), []byte(j.server), 0o600); err != nil {
		return err
	}
	if err := j.Disk.Mkdir(j.server, 0o711); err != nil { // accounts without rights have to come by
		return err
	}
	if err := os.Chmod(j.server, 0o711); err != nil || j.Guest == nil {
		return err
	}
	return j.openWay()
}

// openWay sees to it that the guest can come to the copy: through the folders of this program, or, where what is
// above them is closed to everybody, by another way.
func (j *Job) openWay() error {
	above := filepath.Dir(j.Scratch) // the folder of all rehearsals, in the state folder
	ours := []string{filepath.Dir(above), above, j.Scratch}
	closed := process.CanPass(ours[0])
	if closed == nil {
		return j.Guest.Open(ours...)
	}
	if !errors.Is(closed, process.ErrClosedWay) {
		return closed
	}
	if err := process.CanPass(j.server); err != nil {
		return fmt.Errorf("the account that serves the copy cannot come to it: %w", err)
	}
	j.room = filepath.Join(j.server, roomAside)
	if err := j.Disk.Mkdir(j.room, 0o700); err != nil {
		return err
	}
	return j.Guest.Open(j.room)
}

// give gives the copy, proved by now, to the account that serves it.
func (j Job) give(copied *site.Site) error {
	if j.Guest == nil {
		return nil
	}
	trees := []string{copied.Root}
	for _, root := range copied.Roots {
		trees = append(trees, root)
	}
	if further := filepath.Join(j.room, "roots"); there(j.Disk, further) {
		if err := j.Guest.Open(further); err != nil {
			return err
		}
	}
	if files := filepath.Join(j.room, databases); there(j.Disk, files) {
		trees = append(trees, files)
	}
	temporary := Temporary(copied)
	if err := j.Disk.Mkdir(temporary, 0o700); err != nil {
		return err
	}
	if err := j.Disk.WriteFile(filepath.Join(temporary, "php.ini"), []byte(strings.ReplaceAll(phpSettings, "{dir}", temporary)), 0o600); err != nil {
		return err
	}
	return j.Guest.Own(append(trees, temporary)...)
}

// phpSettings have PHP keep what it writes down in a folder of its own, and not in those of the machine.
const phpSettings = `sys_temp_dir = "{dir}"
upload_tmp_dir = "{dir}"
session.save_path = "{dir}"
opcache.lockfile_path = "{dir}"
`

// Temporary is the folder for temporary files of a copy that is served by a guest. It holds settings for PHP, too.
func Temporary(copied *site.Site) string { return filepath.Join(filepath.Dir(copied.Root), "tmp") }

func there(d *disk.Disk, name string) bool {
	is, err := d.Exists(name)
	return is && err == nil
}

// endWait is how long servers that were killed may take to let go of their files.
const endWait = 3 * time.Second

// Clean ends servers that a rehearsal which died has left behind, and removes
// its folders.
func Clean(d *disk.Disk, scratch string) error {
	note, err := d.ReadFile(filepath.Join(scratch, serverNote))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	server, rooms := string(note), []string{scratch}
	if server != "" {
		rooms = append(rooms, filepath.Join(server, roomAside))
	}
	for _, room := range rooms {
		if err := process.EndOwnerOf(filepath.Join(room, "webroot")); err != nil {
			return err
		}
	}
	for end := time.Now().Add(endWait); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		left := append(serversIn(server), serving(scratch)...)
		if len(left) == 0 {
			break
		}
		for _, pid := range left {
			if p, err := os.FindProcess(pid); err == nil {
				_ = p.Kill()
			}
		}
	}
	remove := func() error {
		if server != "" {
			if err := d.RemoveAll(server); err != nil {
				return err // the note of it is needed still
			}
		}
		return d.RemoveAll(scratch)
	}
	err = remove()
	if errors.Is(err, syscall.ENOTEMPTY) { // the last of them was still writing
		time.Sleep(endWait / 10)
		err = remove()
	}
	return err
}

// Mark is a variable for the environment of whatever serves a copy: by it, a later
// run finds and ends what a rehearsal that was killed has left behind.
func Mark(scratch string) string { return "REVLET_REHEARSAL=" + scratch }

// serving are the processes that serve a copy.
func serving(scratch string) []int {
	return processes("environ", func(variables []string) bool {
		return slices.Contains(variables, Mark(scratch))
	})
}

// programs are those that a scratch server is made and run by.
var programs = []string{"mariadb", "mysql", "postgres", "initdb"}

// serversIn are the processes that make or run a database server in a folder.
func serversIn(dir string) (pids []int) {
	if dir == "" {
		return nil
	}
	return processes("cmdline", func(words []string) bool {
		if !strings.Contains(strings.Join(words, "\x00"), dir+"/") {
			return false
		}
		return slices.ContainsFunc(words[:min(len(words), 2)], func(w string) bool { // a script comes after its shell
			return slices.ContainsFunc(programs, func(p string) bool { return strings.HasPrefix(filepath.Base(w), p) })
		})
	})
}

// processes are those whose command, or environment, is of a kind, but for this
// one.
func processes(what string, of func(words []string) bool) (pids []int) {
	files, err := filepath.Glob("/proc/[0-9]*/" + what)
	if err != nil {
		return nil
	}
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		pid, err := strconv.Atoi(filepath.Base(filepath.Dir(file)))
		if err == nil && pid != os.Getpid() && of(strings.Split(string(data), "\x00")) {
			pids = append(pids, pid)
		}
	}
	return pids
}
