//go:build linux

// Bench measures Revlet against doing the same by hand with general tools, as
// ratios of whole-process wall time, the two in turn.
//
//	go run ./scripts/bench [-files 20000] [-mib 2048] [-sql 400] [-rounds 3] [-dir DIR] [-million]
package main

import (
	"bufio"
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"revlet/internal/platform/scratchserver"
)

var (
	files   = flag.Int("files", 20000, "files")
	mib     = flag.Int("mib", 2048, "MiB of files, half of them compressible")
	sqlMB   = flag.Int("sql", 400, "MB of SQL text")
	rounds  = flag.Int("rounds", 3, "times each")
	million = flag.Bool("million", false, "also a million small files")
	offsite = flag.Bool("offsite", true, "also the next archive, two stores, sshd")
	local   = flag.Bool("local", true, "first archive, verify, restore")
	bad     = flag.Bool("badday", true, "compare, guard, swap window")
	moves   = flag.Bool("moving", true, "a move, beside a restore")
	pulls   = flag.Bool("elsewhere", true, "a site behind sshd")
	paired  = flag.Bool("pairs", true, "the cost of differences")
	page    = flag.String("figures", "", "a page to write what was measured into")
	keep    = flag.String("dir", "", "working folder (default: a temporary one)")
)

func main() {
	flag.Parse()
	if err := run(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

type bench struct {
	dir, program string
	server       *scratchserver.MariaDB
	figures      []figure
	// between is what happens between the two of a line, by its name.
	between map[string]func() error
}

func run(ctx context.Context) (err error) {
	dir := *keep
	if dir == "" {
		if dir, err = os.MkdirTemp("", "revlet-bench-"); err != nil {
			return err
		}
		defer os.RemoveAll(dir)
		if err := os.Chmod(dir, 0o711); err != nil { // the database server's account has to come by
			return err
		}
	}
	program, err := filepath.Abs("bin/revlet")
	if err != nil {
		return err
	}
	b := &bench{dir: dir, program: program}
	fmt.Printf("making %d files of %d MiB and %d MB of SQL in %s\n", *files, *mib, *sqlMB, dir)
	if err := b.makeSite(); err != nil {
		return err
	}
	if err := os.MkdirAll(b.path("server"), 0o700); err != nil {
		return err
	}
	if b.server, err = scratchserver.StartMariaDB(ctx, b.path("server"), scratchserver.Options{Listen: true, Trust: true, Flags: []string{"--innodb-buffer-pool-size=1G", "--innodb-log-file-size=512M", "--innodb-flush-log-at-trx-commit=2"}}); err != nil {
		return err
	}
	defer b.server.Stop()
	if err := b.makeDatabase(); err != nil {
		return err
	}
	if *page != "" {
		defer func() { err = errorsFirst(err, b.writeFigures(*page)) }()
	}
	if *paired {
		if err := b.pairs(); err != nil {
			return err
		}
	}
	if *local {
		if err := b.compare(); err != nil {
			return err
		}
	}
	if *offsite {
		if err := b.offsite(); err != nil {
			return err
		}
	}
	if *bad {
		if err := b.badDay(); err != nil {
			return err
		}
	}
	if *moves {
		if err := b.moving(); err != nil {
			return err
		}
	}
	if *pulls {
		if err := b.elsewhere(); err != nil {
			return err
		}
	}
	if *million {
		return b.manyFiles()
	}
	return nil
}

func (b *bench) path(rel string) string { return filepath.Join(b.dir, rel) }

var words = strings.Fields(`lamp lens keeper fog horn tide ledger oil brass window stair gale kestrel point harbour
	visit opening hours exhibit gallery boat supply watch midnight signal flag paint granite tower light`)

// makeSite writes files of many sizes: half of the bytes are text, the other
// half do not compress, as photographs do not.
func (b *bench) makeSite() error {
	r := rand.New(rand.NewPCG(1871, 1))
	mean := (*mib << 20) / *files
	noise := make([]byte, 1<<20)
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	for i := range *files {
		dir := b.path(fmt.Sprintf("htdocs/%02d/%02d", i%40, i/40%50))
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		size := int(float64(mean) * (0.1 + 1.8*r.Float64()))
		name, content := fmt.Sprintf("%s/picture-%d.jpg", dir, i), make([]byte, 0, size+64)
		if i%2 == 0 {
			name = fmt.Sprintf("%s/page-%d.html", dir, i)
			for len(content) < size {
				content = fmt.Appendf(content, "<p>%s %s %d %s</p>\n", words[r.IntN(len(words))], words[r.IntN(len(words))], r.IntN(1e6), words[r.IntN(len(words))])
			}
		} else {
			for len(content) < size {
				from := r.IntN(len(noise) / 2)
				content = append(content, noise[from:from+min(size-len(content), len(noise)/2)]...)
				content[len(content)-1] ^= byte(i)
			}
		}
		if err := os.WriteFile(name, content, 0o644); err != nil {
			return err
		}
	}
	return nil
}

func (b *bench) mariadb(args ...string) *exec.Cmd {
	return exec.Command("mariadb", append([]string{"--no-defaults", "-uroot", "--socket=" + b.server.Socket}, args...)...)
}

// makeDatabase loads made-up pages, comments and settings.
func (b *bench) makeDatabase() error {
	return b.feed(b.writeMuseum)
}

// feed has the database client run what write gives.
func (b *bench) feed(write func(w *bufio.Writer)) error {
	cmd := b.mariadb()
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		return err
	}
	w := bufio.NewWriterSize(in, 1<<20)
	write(w)
	return errorsFirst(w.Flush(), in.Close(), cmd.Wait())
}

func (b *bench) writeMuseum(w *bufio.Writer) {
	fmt.Fprint(w, `CREATE DATABASE museum CHARACTER SET utf8mb4; CREATE USER 'museum'@'127.0.0.1' IDENTIFIED BY 'x'; GRANT ALL ON museum.* TO 'museum'@'127.0.0.1';
		GRANT ALL ON `+"`rv\\_%`"+`.* TO 'museum'@'127.0.0.1'; USE museum; SET unique_checks=0;
		CREATE TABLE pages (id INT AUTO_INCREMENT PRIMARY KEY, slug VARCHAR(100), title VARCHAR(200), body TEXT, changed DATETIME, KEY (slug), KEY (changed));
		CREATE TABLE comments (id INT AUTO_INCREMENT PRIMARY KEY, page INT, author VARCHAR(60), body TEXT, at DATETIME, KEY (page), KEY (author));
		CREATE TABLE meta (id INT AUTO_INCREMENT PRIMARY KEY, page INT, k VARCHAR(60), v TEXT, KEY (page), KEY (k));`)
	r := rand.New(rand.NewPCG(1871, 2))
	text := func(n int) string {
		var s strings.Builder
		for s.Len() < n {
			s.WriteString(words[r.IntN(len(words))])
			fmt.Fprintf(&s, " %d ", r.IntN(1000))
		}
		return s.String()
	}
	third := *sqlMB * 1e6 / 3
	for _, t := range []struct{ insert, row string }{
		{"pages (slug, title, body, changed)", "('%s','%s','%s','2026-01-02 03:04:05')"},
		{"comments (page, author, body, at)", "(%d,'%s','%s','2026-01-02 03:04:05')"},
		{"meta (page, k, v)", "(%d,'%s','%s')"},
	} {
		for written := 0; written < third; {
			fmt.Fprintf(w, "INSERT INTO %s VALUES ", t.insert)
			for i := range 200 {
				if i > 0 {
					w.WriteByte(',')
				}
				var row string
				switch t.row[1] {
				case '\'':
					row = fmt.Sprintf(t.row, text(20), text(40), text(1200))
				default:
					row = fmt.Sprintf(t.row, r.IntN(60000), text(12), text(map[bool]int{true: 240, false: 60}[strings.HasPrefix(t.insert, "c")]))
				}
				written += len(row)
				w.WriteString(row)
			}
			w.WriteString(";\n")
		}
	}
}

// measured is one run of a command.
type measured struct {
	wall time.Duration
	peak int64 // of the largest process, bytes
}

func measure(cmd *exec.Cmd) (measured, error) {
	start := time.Now()
	out, err := cmd.CombinedOutput()
	m := measured{wall: time.Since(start)}
	if cmd.ProcessState != nil {
		m.peak = cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss * 1024
	}
	if err != nil {
		return m, fmt.Errorf("%s: %w\n%s", cmd, err, out)
	}
	return m, nil
}

func (b *bench) revlet(args ...string) *exec.Cmd {
	cmd := exec.Command(b.program, append([]string{"--quiet"}, args...)...)
	cmd.Dir = b.dir
	cmd.Env = append(os.Environ(), "REVLET_CONFIG="+b.path("revlet.yaml"))
	return cmd
}

func (b *bench) shell(script string) *exec.Cmd {
	cmd := exec.Command("bash", "-ec", "set -o pipefail; "+script)
	cmd.Dir = b.dir
	cmd.Env = append(os.Environ(), "C=--no-defaults -uroot --socket="+b.server.Socket)
	return cmd
}

// versus is one line of the table: what Revlet does, what a hand does, and what
// has to be put right before each run.
type versus struct {
	name         string
	most         float64
	before       func() error
	ours, byHand *exec.Cmd
}

func (b *bench) compare() error {
	config := fmt.Sprintf("state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  museum:\n    root: ./htdocs\n    stores: [here]\n    recipe: none\n    databases: {main: {mysql: \"museum@127.0.0.1:%d/museum\", password_file: pw}}\n", b.server.Port)
	for name, text := range map[string]string{"revlet.yaml": config, "pw": "x"} {
		if err := os.WriteFile(b.path(name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	fresh := func() error {
		for _, dir := range []string{"archives", "state", "byhand"} {
			if err := os.RemoveAll(b.path(dir)); err != nil {
				return err
			}
		}
		return errorsFirst(os.MkdirAll(b.path("archives"), 0o755), os.MkdirAll(b.path("byhand"), 0o755))
	}
	clear := func() error {
		_ = b.revlet("settle", "museum", "--yes").Run()
		return errorsFirst(os.RemoveAll(b.path("unpacked")), os.MkdirAll(b.path("unpacked"), 0o755),
			b.mariadb("-e", "DROP DATABASE IF EXISTS byhand; CREATE DATABASE byhand").Run())
	}
	nothing := func() error { return nil }
	for _, v := range []versus{
		{"first full archive", 1.0, fresh, b.revlet("backup", "museum"),
			b.shell("tar -cf - htdocs | zstd -T0 -q > byhand/site.tar.zst; mariadb-dump $C --single-transaction --quick museum > byhand/dump.sql; zstd -T0 -q byhand/dump.sql; sha256sum byhand/* > byhand/sums")},
		{"full verify", 1.0, nothing, b.revlet("verify", "museum", "--full"),
			b.shell("sha256sum byhand/*.zst; zstd -tq byhand/*.zst")},
		{"restore of files", 1.2, clear, b.revlet("restore", "museum", "--only", "files", "--yes"),
			b.shell("zstd -dcq byhand/site.tar.zst | tar -xf - -C unpacked")},
		// Revlet's restore is on the disk before the live site is touched.
		{"the same, both synced", 1.2, clear, b.revlet("restore", "museum", "--only", "files", "--yes"),
			b.shell("zstd -dcq byhand/site.tar.zst | tar -xf - -C unpacked; sync -f unpacked")},
		{"restore of the database", 0.6, clear, b.revlet("restore", "museum", "--only", "database", "--yes"),
			b.shell("mariadb $C byhand < byhand/dump.sql")},
	} {
		if err := b.line(v); err != nil {
			return err
		}
	}
	return nil
}

func errorsFirst(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// again makes a command that can be run once more.
func again(c *exec.Cmd) *exec.Cmd {
	return &exec.Cmd{Path: c.Path, Args: c.Args, Env: c.Env, Dir: c.Dir}
}

func (b *bench) line(v versus) error {
	var ratios []float64
	var ours, byHand []float64
	var peak int64
	for range *rounds {
		if err := v.before(); err != nil {
			return err
		}
		hand, err := measure(again(v.byHand))
		if err != nil {
			return err
		}
		if err := exec.Command("sync").Run(); err != nil {
			return err
		}
		if between := b.between[v.name]; between != nil {
			if err := between(); err != nil {
				return err
			}
		}
		us, err := measure(again(v.ours))
		if err != nil {
			return err
		}
		peak = max(peak, us.peak)
		ratios = append(ratios, us.wall.Seconds()/hand.wall.Seconds())
		ours, byHand = append(ours, us.wall.Seconds()), append(byHand, hand.wall.Seconds())
	}
	slices.Sort(ratios)
	b.figures = append(b.figures, figure{name: v.name, ours: median(ours), byHand: median(byHand), low: ratios[0], ratio: median(ratios), high: ratios[len(ratios)-1], most: v.most, peak: peak,
		hand: handOf(v.byHand)})
	fmt.Printf("%-26s %6.2f s  by hand %6.2f s  ratio %.2f (%.2f to %.2f)  at most %.2f: %s  peak %d MiB\n",
		v.name, median(ours), median(byHand), median(ratios), ratios[0], ratios[len(ratios)-1], v.most, verdict(median(ratios), v.most), peak>>20)
	return nil
}

// handOf says what was run beside Revlet: a script, or Revlet in another way.
func handOf(cmd *exec.Cmd) string {
	if script, ok := strings.CutPrefix(cmd.Args[len(cmd.Args)-1], "set -o pipefail; "); ok {
		return script
	}
	return strings.ReplaceAll("revlet "+strings.Join(cmd.Args[1:], " "), "--quiet ", "")
}

func median(values []float64) float64 {
	slices.Sort(values)
	return values[len(values)/2]
}

func verdict(value, most float64) string {
	if value > most {
		return "MISSED"
	}
	return "reached"
}

// manyFiles measures memory with a million small files.
func (b *bench) manyFiles() error {
	root := b.path("many")
	for i := range 1000 {
		dir := filepath.Join(root, fmt.Sprintf("%02d/%d", i%40, i))
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		for k := range 1000 {
			if err := os.WriteFile(fmt.Sprintf("%s/%d.txt", dir, k), fmt.Appendf(nil, "page %d of folder %d", k, i), 0o644); err != nil {
				return err
			}
		}
	}
	defer os.RemoveAll(root)
	if err := os.MkdirAll(b.path("archives"), 0o755); err != nil {
		return err
	}
	config := "state: ./manystate\nstores: {here: {folder: ./archives}}\nsites: {many: {root: ./many, stores: [here], recipe: none}}\n"
	if err := os.WriteFile(b.path("revlet.yaml"), []byte(config), 0o600); err != nil {
		return err
	}
	for _, args := range [][]string{{"backup", "many"}, {"backup", "many"}, {"verify", "many"}, {"restore", "many", "--yes"}} {
		m, err := measure(b.revlet(args...))
		if err != nil {
			return err
		}
		fmt.Printf("a million files: %-8s %6.2f s  peak %d MiB\n", args[0], m.wall.Seconds(), m.peak>>20)
	}
	return nil
}
