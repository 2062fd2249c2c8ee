// Release builds what is given to people: for each system an archive with the program, the pages of the manual,
// completion and documents; packages for Debian and for RPM; a bill of materials; and the digests of all. The
// same commit gives the same bytes.
//
//	go run ./scripts/release -out bin/release
package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"maps"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"revlet/internal/cli"
	"revlet/internal/cli/manual"
)

// systems are those that the program is built for.
var systems = []string{"linux/amd64", "linux/arm64", "darwin/amd64", "darwin/arm64", "windows/amd64", "freebsd/amd64"}

// entry is a file of an archive.
type entry struct {
	data []byte
	mode int64
}

// release is one being made.
type release struct {
	out string
	// at is when the commit was made: all files are of that moment.
	at     time.Time
	shared map[string]entry
}

func main() {
	out := flag.String("out", "bin/release", "the folder to write into; what is in it goes")
	only := flag.String("only", strings.Join(systems, ","), "the systems, such as linux/amd64")
	flag.Parse()
	r := &release{out: *out}
	if err := r.make(strings.Split(*only, ",")); err != nil {
		log.Fatal(err)
	}
}

func (r *release) make(systems []string) error {
	seconds, err := output("git", "log", "-1", "--format=%ct")
	if err != nil {
		return err
	}
	n, err := strconv.ParseInt(seconds, 10, 64)
	if err != nil {
		return err
	}
	r.at = time.Unix(n, 0).UTC()
	if err := errors.Join(os.RemoveAll(r.out), os.MkdirAll(r.out, 0o755)); err != nil {
		return err
	}
	if err := r.gather(); err != nil {
		return err
	}
	for _, system := range systems {
		if err := r.build(system); err != nil {
			return fmt.Errorf("%s: %w", system, err)
		}
	}
	if err := r.materials(); err != nil {
		return err
	}
	return r.sums()
}

func output(name string, args ...string) (string, error) {
	out, err := exec.Command(name, args...).Output()
	if exit := (*exec.ExitError)(nil); errors.As(err, &exit) {
		err = fmt.Errorf("%s: %w: %s", name, err, exit.Stderr)
	}
	return strings.TrimSpace(string(out)), err
}

// gather reads what is the same for all systems.
func (r *release) gather() error {
	r.shared = map[string]entry{}
	for name, page := range cli.Manual(r.at) {
		r.shared["man/"+name] = entry{[]byte(page), 0o644}
	}
	for _, shell := range manual.Shells {
		r.shared["completion/revlet."+shell.Name] = entry{[]byte(shell.Script), 0o644}
	}
	files := []string{"README.md", "LICENSE", "CHANGELOG.md"}
	for _, pattern := range []string{"docs/*.md", "docs/*.json", "examples/*", "examples/*/*"} {
		more, err := filepath.Glob(pattern)
		if err != nil {
			return err
		}
		files = append(files, more...)
	}
	for _, file := range files {
		info, err := os.Stat(file)
		if err != nil {
			return err
		}
		if info.IsDir() {
			continue
		}
		data, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		r.shared[filepath.ToSlash(file)] = entry{data, 0o644 | int64(info.Mode().Perm()&0o111)}
	}
	return nil
}

// build makes what is for one system.
func (r *release) build(system string) error {
	goos, arch, _ := strings.Cut(system, "/")
	name := "revlet"
	if goos == "windows" {
		name += ".exe"
	}
	dir, err := os.MkdirTemp("", "release")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	program := filepath.Join(dir, name)
	cmd := exec.Command("go", "build", "-trimpath", "-buildvcs=true", "-ldflags", "-s -w", "-o", program, "./cmd/revlet")
	cmd.Env, cmd.Stderr = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+goos, "GOARCH="+arch), os.Stderr
	if err := cmd.Run(); err != nil {
		return err
	}
	data, err := os.ReadFile(program)
	if err != nil {
		return err
	}
	files := maps.Clone(r.shared)
	files[name] = entry{data, 0o755}
	base := fmt.Sprintf("revlet-%s-%s-%s", cli.Version, goos, arch)
	pack, suffix := r.tarball, ".tar.gz"
	if goos == "windows" {
		pack, suffix = r.zip, ".zip"
	}
	if err := pack(filepath.Join(r.out, base+suffix), base, files); err != nil {
		return err
	}
	fmt.Println(base + suffix)
	if goos == "linux" {
		return r.packages(dir, arch, files)
	}
	return nil
}

func (r *release) tarball(file, base string, files map[string]entry) (err error) {
	var b bytes.Buffer
	z, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
	if err != nil {
		return err
	}
	t := tar.NewWriter(z)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		f := files[name]
		h := &tar.Header{Name: path.Join(base, name), Mode: f.mode, Size: int64(len(f.data)), ModTime: r.at, Format: tar.FormatUSTAR, Uname: "root", Gname: "root"}
		if err := t.WriteHeader(h); err != nil {
			return err
		}
		if _, err := t.Write(f.data); err != nil {
			return err
		}
	}
	if err := errors.Join(t.Close(), z.Close()); err != nil {
		return err
	}
	return os.WriteFile(file, b.Bytes(), 0o644)
}

func (r *release) zip(file, base string, files map[string]entry) error {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		h := &zip.FileHeader{Name: path.Join(base, name), Method: zip.Deflate, Modified: r.at}
		h.SetMode(os.FileMode(files[name].mode))
		w, err := z.CreateHeader(h)
		if err != nil {
			return err
		}
		if _, err := w.Write(files[name].data); err != nil {
			return err
		}
	}
	if err := z.Close(); err != nil {
		return err
	}
	return os.WriteFile(file, b.Bytes(), 0o644)
}

// places are where a package's files go on a system.
func place(name string) string {
	switch base := path.Base(name); {
	case name == "revlet":
		return "/usr/bin/revlet"
	case strings.HasPrefix(name, "man/"):
		return "/usr/share/man/man1/" + base + ".gz"
	case base == "revlet.bash":
		return "/usr/share/bash-completion/completions/revlet"
	case base == "revlet.zsh":
		return "/usr/share/zsh/vendor-completions/_revlet"
	case base == "revlet.fish":
		return "/usr/share/fish/vendor_completions.d/revlet.fish"
	case base == "revlet.powershell":
		return ""
	}
	return "/usr/share/doc/revlet/" + name
}

// packages makes those of Debian and RPM, with the tool of the module beside this one.
func (r *release) packages(dir, arch string, files map[string]entry) error {
	stage := filepath.Join(dir, "stage")
	var contents strings.Builder
	for _, name := range slices.Sorted(maps.Keys(files)) {
		to, data := place(name), files[name].data
		if to == "" {
			continue
		}
		if strings.HasSuffix(to, ".gz") {
			var b bytes.Buffer
			z := gzip.NewWriter(&b)
			if _, err := z.Write(data); err != nil {
				return err
			}
			if err := z.Close(); err != nil {
				return err
			}
			data = b.Bytes()
		}
		from := filepath.Join(stage, to)
		if err := errors.Join(os.MkdirAll(filepath.Dir(from), 0o755), os.WriteFile(from, data, 0o644)); err != nil {
			return err
		}
		fmt.Fprintf(&contents, "  - {src: %q, dst: %q, file_info: {mode: %#o, mtime: %q}}\n", from, to, files[name].mode, r.at.Format(time.RFC3339))
	}
	about := fmt.Sprintf(aboutPackage, arch, cli.Version, r.at.Format(time.RFC3339), contents.String())
	file := filepath.Join(dir, "nfpm.yaml")
	if err := os.WriteFile(file, []byte(about), 0o644); err != nil {
		return err
	}
	out, err := filepath.Abs(r.out)
	if err != nil {
		return err
	}
	for _, kind := range []string{"deb", "rpm"} {
		target := filepath.Join(out, fmt.Sprintf("revlet-%s-linux-%s.%s", cli.Version, arch, kind))
		if err := r.tool("nfpm", "package", "--config", file, "--packager", kind, "--target", target); err != nil {
			return err
		}
		fmt.Println(filepath.Base(target))
	}
	return nil
}

const aboutPackage = `name: revlet
arch: %s
platform: linux
version: %q
section: admin
priority: optional
maintainer: The makers of Revlet <revlet@kestrelpoint.example>
description: |
  Keeps a content-managed web site recoverable.
  Takes full archives of a site's files and database, proves that they are
  whole, keeps copies elsewhere, and puts the site back.
mtime: %q
recommends: [openssh-client]
contents:
%s`

// tool runs one of the packaging module's.
func (r *release) tool(name string, args ...string) error {
	cmd := exec.Command("go", append([]string{"-C", "scripts/packaging", "tool", name}, args...)...)
	cmd.Env = append(os.Environ(), "SOURCE_DATE_EPOCH="+strconv.FormatInt(r.at.Unix(), 10), "GOFLAGS=")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w: %s", name, err, out)
	}
	return nil
}

// materials is the bill of what the program is made of (CycloneDX 1.6).
func (r *release) materials() error {
	file := filepath.Join(r.out, "revlet-"+cli.Version+".cdx.json")
	out, err := filepath.Abs(file)
	if err != nil {
		return err
	}
	root, err := os.Getwd()
	if err != nil {
		return err
	}
	if err := r.tool("cyclonedx-gomod", "app", "-json", "-noserial", "-notimestamp", "-licenses=false", "-main", "cmd/revlet", "-output", out, root); err != nil {
		return err
	}
	fmt.Println(filepath.Base(file))
	return nil
}

// sums writes the digests of all files.
func (r *release) sums() error {
	found, err := os.ReadDir(r.out)
	if err != nil {
		return err
	}
	var text strings.Builder
	for _, f := range found {
		in, err := os.Open(filepath.Join(r.out, f.Name()))
		if err != nil {
			return err
		}
		h := sha256.New()
		_, err = io.Copy(h, in)
		if err = errors.Join(err, in.Close()); err != nil {
			return err
		}
		fmt.Fprintf(&text, "%x  %s\n", h.Sum(nil), f.Name())
	}
	return os.WriteFile(filepath.Join(r.out, "SHA256SUMS"), []byte(text.String()), 0o644)
}
