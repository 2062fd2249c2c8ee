//go:build linux

package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"
)

// figure is one line of docs/FIGURES.md.
type figure struct {
	name         string
	ours, byHand float64
	low, ratio   float64
	high, most   float64
	peak         int64
	hand         string
}

// pairs measures what the cost of differences is: files, then the database, each beside the same by hand.
func (b *bench) pairs() error {
	const site = "state: ./pairstate\nstores:\n  here: {folder: ./pairs}\nsites:\n"
	config := site + fmt.Sprintf("  files: {root: ./htdocs, stores: [here], recipe: none}\n  base: {root: ./empty, stores: [here], recipe: none, databases: {main: {mysql: \"museum@127.0.0.1:%d/museum\", password_file: pw}}}\n", b.server.Port)
	for name, text := range map[string]string{"revlet.yaml": config, "pw": "x", "empty/index.html": "closed"} {
		if err := os.MkdirAll(filepath.Dir(b.path(name)), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(b.path(name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	fresh := func() error {
		for _, dir := range []string{"pairs", "pairstate", "hand"} {
			if err := os.RemoveAll(b.path(dir)); err != nil {
				return err
			}
		}
		return errorsFirst(os.MkdirAll(b.path("pairs"), 0o755), os.MkdirAll(b.path("hand"), 0o755))
	}
	clear := func() error {
		_ = b.revlet("settle", "files", "--yes", "--unsaved").Run()
		_ = b.revlet("settle", "base", "--yes", "--unsaved").Run()
		return errorsFirst(os.RemoveAll(b.path("unpacked")), os.MkdirAll(b.path("unpacked"), 0o755), b.mariadb("-e", "DROP DATABASE IF EXISTS byhand; CREATE DATABASE byhand").Run())
	}
	nothing := func() error { return nil }
	find := "find htdocs -printf '%s %T@ %p\\n' > hand/seen"
	tar := "tar -cf - htdocs | zstd -T2 -3 -q > hand/site.tar.zst"
	first := b.revlet("backup", "base", "--scope", "database", "--fresh")
	settled := func() error { time.Sleep(4500 * time.Millisecond); return nil } // what has changed in the last seconds is read again
	const someRows = "the same, 0.1 % of one table of three changed"
	b.between = map[string]func() error{someRows: func() error {
		return b.mariadb("museum", "-e", "UPDATE comments SET author = LEFT(CONCAT('changed ', RAND()), 60) WHERE id % 1000 = 7").Run()
	}}
	for _, v := range []versus{
		{"first archive, files", 0.7, fresh, b.revlet("backup", "files"), b.shell(tar + "; find htdocs -type f -print0 | xargs -0 -P2 -n 500 sha256sum > hand/sums")},
		{"full verify of it", 0.7, nothing, b.revlet("verify", "files", "--full"), b.shell("sha256sum hand/site.tar.zst; zstd -tq hand/site.tar.zst")},
		{"next archive, nothing changed", 4, nothing, b.revlet("backup", "files"), b.shell(find)},
		{"next archive, 1 % changed", 0.04, b.touch, b.revlet("backup", "files"), b.shell(tar + "; find htdocs -type f -print0 | xargs -0 -P2 -n 500 sha256sum > hand/sums")},
		{"compare without reading", 1.5, nothing, b.revlet("compare", "files"), b.shell(find)},
		{"restore of files", 0.9, clear, b.revlet("restore", "files", "--yes"), b.shell("zstd -dcq hand/site.tar.zst | tar -xf - -C unpacked; sync -f unpacked")},
		{"the same, the site is gone", 0.9, b.gone(clear), b.revlet("restore", "files", "--yes"), b.shell("zstd -dcq hand/site.tar.zst | tar -xf - -C unpacked; sync -f unpacked")},
		{"first archive, database", 0.5, nothing, first, b.shell("mariadb-dump $C --single-transaction --quick museum | zstd -T2 -3 -q > hand/dump.sql.zst")},
		{"next archive of it, nothing changed, beside the first", 0.25, settled, b.revlet("backup", "base", "--scope", "database"), first},
		{someRows, 0.25, settled, b.revlet("backup", "base", "--scope", "database"), first},
		{"restore of the database", 0.33, clear, b.revlet("restore", "base", "--only", "database", "--yes"), b.shell("zstd -dcq hand/dump.sql.zst | mariadb $C byhand")},
	} {
		if err := b.line(v); err != nil {
			return err
		}
	}
	return nil
}

// touch changes one file of a hundred.
func (b *bench) touch() error {
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	all, err := filepath.Glob(b.path("htdocs/*/*/*"))
	if err != nil {
		return err
	}
	for range max(len(all)/100, 1) {
		name := all[r.IntN(len(all))]
		f, err := os.OpenFile(name, os.O_WRONLY|os.O_APPEND, 0)
		if err != nil {
			return err
		}
		_, err = fmt.Fprintf(f, "changed %d\n", r.Int64())
		if err := errorsFirst(err, f.Close()); err != nil {
			return err
		}
	}
	return nil
}

// gone empties the webroot first: nothing of the site is there any more.
func (b *bench) gone(before func() error) func() error {
	return func() error {
		if err := before(); err != nil {
			return err
		}
		return errorsFirst(os.RemoveAll(b.path("htdocs")), os.MkdirAll(b.path("htdocs"), 0o755))
	}
}

// bounds says what the figures are bounded by, as profiles show it.
const bounds = `
## What bounds them

- **First archive, verify, restore**: SHA-256. On a processor without instructions for it, of a verification three quarters of all time, of a first archive half: each file's content is hashed, and the stored
  bytes are. A processor with SHA instructions does that several times as fast; a library that hashes sixteen files at a time (AVX-512) was looked at and not
  taken: it keeps what it is given beyond the call, and never stops running.
- **Next archive**: writing the new list and reading the old one; asking for each path (one call of the system) is a third of it.
- **Restore of files**: what the site still has is read, hashed and copied; the stored bytes on this machine are read and hashed all the same, so that damage is told.
  Where the file system lets files share blocks (XFS, Btrfs) the copy shares them with the live file: 1.5 GB in 7,680 files took 2.2 s so, where copying and flushing took 5.
- **Database**: every row is read for the first archive, and later of every table of which MariaDB or PostgreSQL does not vouch that nothing in it has changed. For a first archive
  both cores are busy all the while: the server's part is some two fifths, packing and hashing a fifth. Where few rows of a table change and lie all over it, digests made by the server would
  cost half of reading it, and every slice would be read all the same.
- **Restore of a database**: the server's inserting. A table that is live as the archive has it is loaded all the same: left where it is, undo would give back what visitors have written since;
  copied within the server (measured: 9 to 10.7 s for what took 18 s to load) and then read to prove the copy (4 s), it would save a quarter where all tables are the same.
`

// writeFigures writes the lines that were measured as a page.
func (b *bench) writeFigures(file string) error {
	var out strings.Builder
	kind, _ := exec.Command("sh", "-c", "grep -m1 'model name' /proc/cpuinfo | cut -d: -f2-").Output()
	fmt.Fprintf(&out, "# Figures\n\nMeasured on %s by `make bench FIGURES=docs/FIGURES.md`: %d files of %d MiB, half of which compress, and %d MB of SQL; %d rounds, the two in turn,\nwhole processes; %d cores (%s). Ratios below 1 are less time than the same by hand takes. Another machine gives other seconds; the ratios are what counts.\n\n",
		time.Now().Format(time.DateOnly), *files, *mib, *sqlMB, *rounds, runtime.NumCPU(), strings.TrimSpace(string(kind)))
	fmt.Fprintln(&out, "| work | Revlet | by hand | ratio | of all rounds | wanted | | memory |\n|---|---|---|---|---|---|---|---|")
	for _, f := range b.figures {
		fmt.Fprintf(&out, "| %s | %.2f s | %.2f s | %.2f | %.2f to %.2f | %.2f | %s | %d MiB |\n", f.name, f.ours, f.byHand, f.ratio, f.low, f.high, f.most, strings.ToLower(verdict(f.ratio, f.most)), f.peak>>20)
	}
	fmt.Fprint(&out, "\nBy hand:\n\n")
	for _, f := range b.figures {
		fmt.Fprintf(&out, "- %s: `%s`\n", f.name, f.hand)
	}
	out.WriteString(bounds)
	return os.WriteFile(file, []byte(out.String()), 0o644)
}
