package lampblack

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"sync"
)

type pageRow struct{ Slug, Title, Body string }
type exhibit struct {
	Name, Text, Picture string
	Year                int
}
type hours struct{ Days, Times string }
type logEntry struct{ Day, Keeper, Text string }
type remark struct{ Visitor, Text string }

const tables = `
PRAGMA journal_mode = WAL;
CREATE TABLE settings (name TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE pages (id INTEGER PRIMARY KEY AUTOINCREMENT, slug TEXT NOT NULL UNIQUE, title TEXT NOT NULL, body TEXT NOT NULL, position INTEGER NOT NULL);
CREATE TABLE exhibits (id INTEGER PRIMARY KEY, name TEXT NOT NULL, text TEXT NOT NULL, picture TEXT NOT NULL, year INTEGER NOT NULL);
CREATE TABLE opening_hours (position INTEGER PRIMARY KEY, days TEXT NOT NULL, times TEXT NOT NULL);
CREATE TABLE keepers_log (id INTEGER PRIMARY KEY, day TEXT NOT NULL, keeper TEXT NOT NULL, entry TEXT NOT NULL, wind REAL, sketch BLOB);
CREATE TABLE users (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, role TEXT NOT NULL, secret TEXT NOT NULL);
CREATE TABLE remarks (id INTEGER PRIMARY KEY, page INTEGER NOT NULL REFERENCES pages (id), visitor TEXT NOT NULL, text TEXT NOT NULL);
CREATE INDEX log_by_day ON keepers_log (day);
CREATE VIEW latest_log AS SELECT day, keeper, entry FROM keepers_log ORDER BY day DESC, id DESC LIMIT 3;
CREATE TRIGGER tidy_title AFTER INSERT ON pages BEGIN UPDATE pages SET title = trim(title) WHERE id = NEW.id; END;`

// fill makes the database and what is in it.
func fill(ctx context.Context, file, address string) error {
	db, err := sql.Open("sqlite", "file:"+file)
	if err != nil {
		return err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	put := func(q string, args ...any) {
		if err == nil {
			_, err = db.ExecContext(ctx, q, args...)
		}
	}
	put(tables)
	put("BEGIN")
	put("INSERT INTO settings VALUES ('address', ?), ('language', 'en'), ('season', 'winter')", address)
	for i, p := range []pageRow{
		{"home", "Kestrel Point Lighthouse Museum", "Climb 141 steps to the lamp room, see the great lens turn, and read what five generations of keepers wrote down about wind, ships and supper."},
		{"visit", "Your visit", "Bus 7 stops at the harbour; from there it is twenty minutes on foot along the cliff. Dogs may come as far as the oil store."},
		{"history", "History", "The tower was built in 1869 to 1871 of granite shipped from the quarry across the bay. The lamp burned rape oil, then paraffin, and since 1934 electricity."},
		{"school-groups", "School groups", "Classes are welcome on Mondays by appointment. We light a small lamp together and send a message with the signal flags."},
	} {
		put("INSERT INTO pages (slug, title, body, position) VALUES (?, ?, ?, ?)", p.Slug, p.Title, p.Body, i)
	}
	for _, e := range []exhibit{
		{"The great lens", "Two tonnes of glass that float on mercury and turn at the push of a finger.", "lens.svg", 1871},
		{"The fog horn", "It was heard eleven miles out, and by everybody in the village.", "horn.svg", 1902},
		{"The supply boat", "Bread, oil and letters came once a week, weather allowing.", "boat.svg", 1888},
	} {
		put("INSERT INTO exhibits (name, text, picture, year) VALUES (?, ?, ?, ?)", e.Name, e.Text, e.Picture, e.Year)
	}
	for i, h := range []hours{{"Tuesday to Friday", "10.00 to 16.00"}, {"Saturday and Sunday", "10.00 to 18.00"}, {"Monday", "school groups only"}} {
		put("INSERT INTO opening_hours VALUES (?, ?, ?)", i, h.Days, h.Times)
	}
	keepers := []string{"E. Marrow", "J. Tull", "A. Penhale"}
	entries := []string{
		"Wind backing south-west, lamp trimmed at midnight. Saw the packet pass at four bells.",
		"Fog from noon. Horn kept going for nineteen hours; nobody slept, not even the hens.",
		"Boat came with oil, flour and a crate of oranges. All hands in good spirits.",
		"A kestrel has nested under the gallery. Painted around her.",
	}
	for i := range 366 {
		sketch := []byte{0x89, byte(i), 0x00, byte(i >> 3), '\'', '\n'}
		put("INSERT INTO keepers_log (day, keeper, entry, wind, sketch) VALUES (date('1904-01-01', ?), ?, ?, ?, ?)",
			fmt.Sprintf("+%d days", i), keepers[i%3], entries[i%4], math.Sqrt(float64(i)), sketch)
	}
	put("INSERT INTO remarks (page, visitor, text) VALUES (2, 'Ida', 'The bus comes more often in summer.'), (2, 'Tom', 'Bring a coat, even in July.'), (4, 'Class 4b', 'We sent our names across the bay!')")
	put("INSERT INTO users (name, role, secret) VALUES ('keeper', 'administrator', 'made-up-hash-1'), ('volunteer', 'editor', 'made-up-hash-2')")
	put("COMMIT")
	if err != nil {
		return fmt.Errorf("fill the museum's database: %w", err)
	}
	return nil
}

func (v *view) load(ctx context.Context, db *sql.DB) error {
	err := each(ctx, db, "SELECT slug, title FROM pages WHERE slug <> 'home' ORDER BY position", func(r *sql.Rows) error {
		var p pageRow
		err := r.Scan(&p.Slug, &p.Title)
		v.Pages = append(v.Pages, p)
		return err
	})
	if err != nil {
		return err
	}
	err = each(ctx, db, "SELECT name, text, picture, year FROM exhibits ORDER BY id", func(r *sql.Rows) error {
		var e exhibit
		err := r.Scan(&e.Name, &e.Text, &e.Picture, &e.Year)
		v.Exhibits = append(v.Exhibits, e)
		return err
	})
	if err != nil {
		return err
	}
	err = each(ctx, db, "SELECT days, times FROM opening_hours ORDER BY position", func(r *sql.Rows) error {
		var h hours
		err := r.Scan(&h.Days, &h.Times)
		v.Hours = append(v.Hours, h)
		return err
	})
	if err != nil {
		return err
	}
	return each(ctx, db, "SELECT day, keeper, entry FROM latest_log", func(r *sql.Rows) error {
		var e logEntry
		err := r.Scan(&e.Day, &e.Keeper, &e.Text)
		v.Log = append(v.Log, e)
		return err
	})
}

func each(ctx context.Context, db *sql.DB, q string, visit func(*sql.Rows) error) error {
	rows, err := db.QueryContext(ctx, q)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := visit(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}

func (v *view) readPage(ctx context.Context, db *sql.DB, slug string) error {
	v.Page = pageRow{Slug: slug}
	var id int64
	if err := db.QueryRowContext(ctx, "SELECT id, title, body FROM pages WHERE slug = ?", slug).Scan(&id, &v.Page.Title, &v.Page.Body); err != nil {
		return err
	}
	return each(ctx, db, fmt.Sprintf("SELECT visitor, text FROM remarks WHERE page = %d ORDER BY id", id), func(r *sql.Rows) error {
		var one remark
		err := r.Scan(&one.Visitor, &one.Text)
		v.Remarks = append(v.Remarks, one)
		return err
	})
}

// photographs are a few paintings of the sea as PNG files, which do not compress. They
// are the same every time, and painted once.
var photographs = sync.OnceValues(func() ([][]byte, error) {
	var all [][]byte
	for n := range 6 {
		img := image.NewRGBA(image.Rect(0, 0, 480, 320))
		state := uint32(n*7919 + 1)
		for y := range 320 {
			for x := range 480 {
				state = state*1664525 + 1013904223
				wave := math.Sin(float64(x)/23+float64(y*n)/61) * 24
				grain := float64(state >> 27)
				img.SetRGBA(x, y, color.RGBA{uint8(30 + grain), uint8(80 + wave + grain), uint8(float64(110+y/4) + grain), 255})
			}
		}
		var out bytes.Buffer
		if err := png.Encode(&out, img); err != nil {
			return nil, err
		}
		all = append(all, out.Bytes())
	}
	return all, nil
})

// gallery writes the photographs into a folder.
func gallery(dir string) error {
	all, err := photographs()
	if err != nil {
		return err
	}
	for i, data := range all {
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("sea-%d.png", i+1)), data, 0o666); err != nil {
			return err
		}
	}
	return nil
}

// Execute runs one statement on a site's database, as a person with a database
// tool would.
func Execute(ctx context.Context, file, statement string) error {
	db, err := sql.Open("sqlite", "file:"+file+"?mode=rw&_pragma=busy_timeout(5000)")
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.ExecContext(ctx, statement)
	return err
}

// Dump writes every table's rows, in order, for comparing.
func Dump(ctx context.Context, file string) (string, error) {
	db, err := sql.Open("sqlite", "file:"+file+"?mode=rw&_pragma=busy_timeout(5000)")
	if err != nil {
		return "", err
	}
	defer db.Close()
	var text string
	err = each(ctx, db, "SELECT type, name, tbl_name, coalesce(sql, '') FROM sqlite_schema ORDER BY type, name", func(r *sql.Rows) error {
		var kind, name, table, create string
		err := r.Scan(&kind, &name, &table, &create)
		text += fmt.Sprintf("%s %s %s %s\n", kind, name, table, create)
		return err
	})
	for _, table := range []string{"settings", "pages", "exhibits", "opening_hours", "keepers_log", "users", "remarks", "sqlite_sequence"} {
		if err != nil {
			break
		}
		err = each(ctx, db, "SELECT * FROM "+table+" ORDER BY 1", func(r *sql.Rows) error {
			names, err := r.Columns()
			if err != nil {
				return err
			}
			values := make([]any, len(names))
			pointers := make([]any, len(names))
			for i := range values {
				pointers[i] = &values[i]
			}
			err = r.Scan(pointers...)
			text += fmt.Sprintf("%s %q\n", table, values)
			return err
		})
		if err != nil && table == "exhibits" {
			text, err = text+"exhibits: "+err.Error()+"\n", nil
		}
	}
	return text, err
}
