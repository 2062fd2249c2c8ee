// Package lampblack is the stand-in CMS of the demo: templates, themes,
// extensions and uploads in a folder, pages in an SQLite database. It breaks
// the way real ones do: a missing theme or table is an HTTP 500.
package lampblack

import (
	"bytes"
	"context"
	"database/sql"
	"embed"
	"fmt"
	"html/template"
	"io/fs"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	_ "modernc.org/sqlite" // the driver for the site's database
)

//go:embed all:files
var files embed.FS

// DatabaseFile is where a new site's database lies in its webroot.
const DatabaseFile = "data/museum.db"

// Build makes the Kestrel Point Lighthouse Museum's site in an empty folder.
func Build(ctx context.Context, root, address string) error {
	err := fs.WalkDir(files, "files", func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		to := filepath.Join(root, strings.TrimPrefix(p, "files"))
		if d.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		data, err := files.ReadFile(p)
		if err != nil {
			return err
		}
		return os.WriteFile(to, data, 0o644)
	})
	if err != nil {
		return fmt.Errorf("build the museum's site: %w", err)
	}
	for _, dir := range []string{"data", "cache", "uploads/2026/gallery", "uploads/2027"} {
		if err := os.MkdirAll(filepath.Join(root, dir), 0o755); err != nil {
			return err
		}
	}
	if err := gallery(filepath.Join(root, "uploads/2026/gallery")); err != nil {
		return err
	}
	if err := os.Symlink("2026", filepath.Join(root, "uploads/current")); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(root, "cache/home.html"), []byte("<!-- made again at any time -->\n"), 0o644); err != nil {
		return err
	}
	settings := "# Settings of this site; Lampblack reads them at every request.\nname: Kestrel Point Lighthouse Museum\ntheme: lantern\ndatabase: " + DatabaseFile + "\n"
	if err := os.WriteFile(filepath.Join(root, "settings.yaml"), []byte(settings), 0o640); err != nil {
		return err
	}
	return fill(ctx, filepath.Join(root, DatabaseFile), address)
}

type settings struct {
	Name  string `yaml:"name"`
	Theme string `yaml:"theme"`
	// Database is its file, seen from the webroot.
	Database string `yaml:"database"`
}

// longestMaintenance is after how long a forgotten flag no longer counts.
const longestMaintenance = 10 * time.Minute

// closed tells whether the site is closed: since the moment, in seconds since 1970, that its flag says,
// or since the flag was put there.
func closed(root string) bool {
	flag := filepath.Join(root, "maintenance.flag")
	info, err := os.Stat(flag)
	if err != nil {
		return false
	}
	since := info.ModTime()
	if text, err := os.ReadFile(flag); err == nil {
		if unix, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64); err == nil {
			since = time.Unix(unix, 0)
		}
	}
	return time.Since(since) < longestMaintenance
}

// file is where the database lies.
func (s settings) file(root string) string {
	if filepath.IsAbs(s.Database) {
		return s.Database
	}
	return filepath.Join(root, s.Database)
}

// Handler serves the site in a webroot. It reads everything anew at each
// request, so that what is done to the files shows at once.
func Handler(root string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if closed(root) {
			w.Header().Set("Retry-After", "60")
			http.Error(w, "The lamp is being trimmed. Please come back in a minute.", http.StatusServiceUnavailable)
			return
		}
		clean := path.Clean("/" + r.URL.Path)
		if strings.HasPrefix(clean, "/uploads/") || strings.HasPrefix(clean, "/themes/") {
			http.ServeFile(w, r, filepath.Join(root, filepath.FromSlash(clean)))
			return
		}
		if r.Method == http.MethodPost {
			if err := remarkOn(r, root, strings.Trim(clean, "/")); err != nil {
				http.Error(w, err.Error(), http.StatusInternalServerError)
				return
			}
			http.Redirect(w, r, clean, http.StatusSeeOther)
			return
		}
		page, status, err := render(r.Context(), root, strings.Trim(clean, "/"))
		if err != nil {
			w.WriteHeader(http.StatusInternalServerError)
			fmt.Fprintf(w, "<h1>Lampblack could not make this page</h1><pre>%s</pre>\n", template.HTMLEscapeString(err.Error()))
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.WriteHeader(status)
		_, _ = w.Write(page)
	})
}

// remarkOn adds a visitor's remark to a page.
func remarkOn(r *http.Request, root, slug string) error {
	db, err := sql.Open("sqlite", "file:"+filepath.Join(root, DatabaseFile)+"?mode=rw&_pragma=busy_timeout(5000)")
	if err != nil {
		return err
	}
	defer db.Close()
	r.Body = http.MaxBytesReader(nil, r.Body, 64<<10)
	_, err = db.ExecContext(r.Context(), "INSERT INTO remarks (page, visitor, text) SELECT id, ?, ? FROM pages WHERE slug = ?", r.FormValue("visitor"), r.FormValue("text"), slug)
	return err
}

// view is what the templates are given.
type view struct {
	SiteName, Title, Theme, Version string
	Page                            pageRow
	Pages                           []pageRow
	Exhibits                        []exhibit
	Hours                           []hours
	Log                             []logEntry
	Remarks                         []remark
}

func render(ctx context.Context, root, slug string) ([]byte, int, error) {
	var s settings
	var version struct{ Version string }
	for file, into := range map[string]any{"settings.yaml": &s, "core/lampblack-version.yaml": &version} {
		data, err := os.ReadFile(filepath.Join(root, file))
		if err == nil {
			err = yaml.Unmarshal(data, into)
		}
		if err != nil {
			return nil, 0, err
		}
	}
	db, err := sql.Open("sqlite", "file:"+s.file(root)+"?mode=rw&_pragma=busy_timeout(5000)")
	if err != nil {
		return nil, 0, err
	}
	defer db.Close()
	v := &view{SiteName: s.Name, Theme: s.Theme, Version: version.Version}
	if err := v.load(ctx, db); err != nil {
		return nil, 0, err
	}
	status := http.StatusOK
	kind := "page.html"
	switch slug {
	case "":
		slug, kind = "home", "home.html"
	case "login":
		v.Title, kind = "Keepers' entrance", "login.html"
	}
	if kind != "login.html" {
		err = v.readPage(ctx, db, slug)
		if err == sql.ErrNoRows {
			v.Page, status = pageRow{Title: "Nothing here", Body: "The fog is thick and there is no such page."}, http.StatusNotFound
		} else if err != nil {
			return nil, 0, err
		}
		v.Title = v.Page.Title
	}
	page, err := v.execute(root, kind)
	return page, status, err
}

func (v *view) execute(root, kind string) ([]byte, error) {
	parts := []string{filepath.Join(root, "core/layout.html"), filepath.Join(root, "core", kind), filepath.Join(root, "themes", v.Theme, "theme.html")}
	extensions, err := filepath.Glob(filepath.Join(root, "extensions/*/part.html"))
	if err != nil {
		return nil, err
	}
	t, err := template.ParseFiles(append(parts, extensions...)...)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = t.ExecuteTemplate(&b, "layout.html", v)
	return b.Bytes(), err
}
