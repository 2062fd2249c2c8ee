// Package memory keeps a list that others have made long from taking the machine's memory:
// Watch counts what is gathered, and says in time that there is no room for more. The
// machine would otherwise end some program, and as likely a database server as this one.
package memory

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// ErrShort is wrapped by errors about a machine that has no room for more.
var ErrShort = errors.New("not enough memory")

const (
	// step is how many things are gathered between two looks: some hundred MB.
	step = 1 << 20
	// least is what has to be left, in bytes.
	least = 256 << 20
)

// Watch counts what is gathered. The zero value is ready. It is not safe for concurrent
// use.
type Watch struct {
	// Left tells how many bytes are left; nil asks the system. false is not known.
	Left func() (int64, bool)
	n    int
}

// One counts one more thing. Now and then it looks whether the machine has room for more,
// and gives an error that wraps ErrShort when it has not.
func (w *Watch) One() error {
	if w.n++; w.n%step != 0 {
		return nil
	}
	left := w.Left
	if left == nil {
		left = Left
	}
	if free, ok := left(); ok && free < least {
		return fmt.Errorf("%w: after %d million paths, %d MiB are left on this machine", ErrShort, w.n/step, free>>20)
	}
	return nil
}

// Room gives an error that wraps ErrShort when the machine has no room for so many bytes more, as left tells.
func Room(bytes int64, left func() (int64, bool)) error {
	if free, ok := left(); ok && free < least+bytes {
		return fmt.Errorf("%w: %d MiB are left on this machine", ErrShort, free>>20)
	}
	return nil
}

// Left tells how many bytes this process may still take: what the system calls available
// (proc(5), MemAvailable), and no more than its control group allows (the kernel's
// cgroup-v2 document, memory.max). false is returned where neither is known.
func Left() (int64, bool) { return left("/") }

func left(root string) (free int64, known bool) {
	least := func(n int64) {
		if !known || n < free {
			free, known = n, true
		}
	}
	info, _ := os.ReadFile(filepath.Join(root, "proc/meminfo"))
	for lines := bufio.NewScanner(bytes.NewReader(info)); lines.Scan(); {
		var kib int64
		if n, _ := fmt.Sscanf(lines.Text(), "MemAvailable: %d kB", &kib); n == 1 {
			least(kib << 10)
		}
	}
	group, _ := os.ReadFile(filepath.Join(root, "proc/self/cgroup"))
	_, path, ok := strings.Cut(strings.TrimSpace(string(group)), "0::")
	for dir := filepath.Clean("/" + path); ok; dir = filepath.Dir(dir) {
		most, err1 := number(filepath.Join(root, "sys/fs/cgroup", dir, "memory.max"))
		taken, err2 := number(filepath.Join(root, "sys/fs/cgroup", dir, "memory.current"))
		if err1 == nil && err2 == nil {
			least(max(0, most-taken))
		}
		if dir == "/" {
			break
		}
	}
	return free, known
}

func number(file string) (int64, error) {
	text, err := os.ReadFile(file) // #nosec G703 -- the names are those of the system's own files
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
}
