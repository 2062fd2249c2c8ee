package process

import (
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
)

// scripts are endings of files that a program named before them runs.
var scripts = []string{".sh", ".bash", ".py", ".php", ".phar", ".pl", ".rb", ".js"}

// Trusted refuses, for root, a command of which another account could change what is run: the program itself, or a script that
// is named among its words by a path. accounts are those beside root that may. The error has the reason ProgramOfOthers.
func Trusted(words []string, accounts ...int) error {
	if os.Geteuid() != 0 {
		return nil
	}
	for i, word := range words {
		path := word
		if i == 0 {
			found, err := exec.LookPath(word)
			if err != nil {
				continue // starting it tells
			}
			path = found
		} else if !filepath.IsAbs(word) {
			continue
		}
		info, err := os.Stat(path)
		if err != nil || !info.Mode().IsRegular() {
			continue
		}
		if i > 0 && info.Mode().Perm()&0o111 == 0 && !slices.Contains(scripts, strings.ToLower(filepath.Ext(path))) {
			continue
		}
		if err := onlyOf(path, info, accounts); err != nil {
			return err
		}
	}
	return nil
}

// onlyOf refuses a file that another account could change, or put another one in the place of.
func onlyOf(path string, info fs.FileInfo, accounts []int) error {
	path, err := filepath.Abs(path)
	if err != nil {
		return err
	}
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return err
	}
	if disk.FileOnlyOf(real, info, accounts...) && disk.OnlyOf(filepath.Dir(real), accounts...) && disk.OnlyOf(filepath.Dir(path), accounts...) {
		return nil
	}
	account := "somebody else"
	if a, ok := disk.AttributesOf(info); ok && a.UID != 0 {
		account = fmt.Sprintf("#%d", a.UID)
	}
	return reason.New(reason.ProgramOfOthers, reason.Names{"path": path, "account": account}, "%s belongs to another account, or others may change it: it would be run as root", path)
}

// byOthers are programs that run what comes behind them as another account.
var byOthers = []string{"sudo", "su", "runuser", "setpriv", "doas", "chpst", "setuidgid", "systemd-run"}

// TrustedLine is Trusted for a line that a shell runs. Of one that has another account run something, only the first word is looked at.
func TrustedLine(line string, accounts ...int) error {
	words := strings.FieldsFunc(line, func(r rune) bool { return strings.ContainsRune(" \t\r\n;|&()<>{}\"'`$=", r) })
	if slices.ContainsFunc(words, func(w string) bool { return slices.Contains(byOthers, filepath.Base(w)) }) {
		words = words[:1]
	}
	return Trusted(words, accounts...)
}
