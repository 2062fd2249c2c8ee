package archive

import (
	"slices"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/encryption"
)

// aRecord is one as a backup writes it.
func aRecord() *Record {
	sum := strings.Repeat("a", 64)
	return &Record{Format: Format, Name: "kestrelpoint-20261120-032000", Site: "kestrelpoint", Taken: time.Date(2026, 11, 20, 3, 20, 0, 0, time.UTC), Scope: Full, Note: "well\nindeed", List: ListRef{SHA256: sum, Lines: 4},
		Origin: Origin{Address: "https://kestrelpoint.example/visit", Recipe: "wordpress", Version: "6.8", Skipped: []string{"tmp/**", "ä b/*"},
			Roots:     map[string]string{"webroot": "/srv/kestrelpoint/htdocs", "above": "/srv/kestrelpoint", "media": "/srv/Meine Bilder"},
			Databases: map[string]DBOrigin{"main": {Engine: "mysql", Where: "museum@127.0.0.1:3306/museum_cms", Prefix: "kp_"}, "notes": {Engine: "sqlite", Where: "/srv/notes.db"}}},
		Parts: []Part{{Name: sum + ".tar.zst", SHA256: sum, Kind: KindFiles, Entries: 3}, {Name: sum + ".sql.zst", SHA256: sum, Kind: KindRows, Database: "main", Table: "kp_posts", Slice: 1}}}
}

// Each was taken as it came: labels and paths went into the configuration as text.
func TestARecordSaysNothingThatABackupDoesNot(t *testing.T) {
	one := aRecord()
	pieced(one, Piece{Name: strings.Repeat("e", 64) + PieceZstdEnding, ContentBytes: 7, ContentSHA256: strings.Repeat("d", 64)}, Piece{Name: strings.Repeat("e", 64) + PieceEnding})
	for _, r := range []*Record{aRecord(), one} {
		good, err := r.Encode(nil)
		require.NoError(t, err)
		_, err = DecodeRecord(good)
		require.NoError(t, err)
	}
	for name, forge := range map[string]func(*Record){
		"a label that is YAML": func(r *Record) {
			r.Origin.Databases["main: {mysql: a@b/c}\n    rehearse: {serve: id}\n    x"] = DBOrigin{Engine: "mysql"}
		},
		"a label that climbs":        func(r *Record) { r.Origin.Roots["../../etc"] = "/srv/x" },
		"an empty label":             func(r *Record) { r.Origin.Roots[""] = "/srv/x" },
		"a label with a slash":       func(r *Record) { r.Origin.Databases["a/b"] = DBOrigin{Engine: "mysql"} },
		"a label in capitals":        func(r *Record) { r.Origin.Roots["Media"] = "/srv/x" },
		"a long label":               func(r *Record) { r.Origin.Roots[strings.Repeat("x", 70)] = "/srv/x" },
		"a folder that is relative":  func(r *Record) { r.Origin.Roots["webroot"] = "htdocs" },
		"a folder with detours":      func(r *Record) { r.Origin.Roots["webroot"] = "/srv/x/../../etc" },
		"a folder of two lines":      func(r *Record) { r.Origin.Roots["webroot"] = "/srv/x\n    rehearse: {serve: id}" },
		"a folder that steers":       func(r *Record) { r.Origin.Roots["webroot"] = "/srv/\x1b]0;x\x07" },
		"a folder that turns around": func(r *Record) { r.Origin.Roots["webroot"] = "/srv/\u202egnp.exe" },
		"a path too long":            func(r *Record) { r.Origin.Roots["webroot"] = "/" + strings.Repeat("x", 5000) },
		"an engine of its own":       func(r *Record) { r.Origin.Databases["main"] = DBOrigin{Engine: "sh"} },
		"a database file elsewhere":  func(r *Record) { r.Origin.Databases["notes"] = DBOrigin{Engine: "sqlite", Where: "../x.db"} },
		"a place of two lines":       func(r *Record) { r.Origin.Databases["main"] = DBOrigin{Engine: "mysql", Where: "a@b/c}\nnotify: x"} },
		"a recipe that is a path":    func(r *Record) { r.Origin.Recipe = "../../tmp/evil" },
		"a rule of two lines":        func(r *Record) { r.Origin.Skipped = []string{"a\nb"} },
		"an address of a script":     func(r *Record) { r.Origin.Address = "javascript:alert(1)" },
		"an address with a password": func(r *Record) { r.Origin.Address = "https://a:b@x.example/" },
		"an address of two lines":    func(r *Record) { r.Origin.Address = "https://x.example/\n\nx" },
		"a version that steers":      func(r *Record) { r.Origin.Version = "\x1b[2J" },
		"an unknown kind of part":    func(r *Record) { r.Parts[0].Kind = "script" },
		"files that are SQL":         func(r *Record) { r.Parts[1].Kind = KindFiles },
		"SQL that is files":          func(r *Record) { r.Parts[0].Kind = KindRows },
		"a slice beyond all bounds":  func(r *Record) { r.Parts[1].Slice = 1 << 40 },
		"a slice below zero":         func(r *Record) { r.Parts[1].Slice = -1 },
		"rows of no slice":           func(r *Record) { r.Parts[1].Slice = 0 },
		"rows of no table":           func(r *Record) { r.Parts[1].Table = "" },
		"entries below zero":         func(r *Record) { r.Parts[1].Entries = -5 },
		"a database not described":   func(r *Record) { r.Parts[1].Database = "other" },
		"more bytes than parts have": func(r *Record) { r.Totals.StoredBytes = 1 << 40 },
		"more new than there is":     func(r *Record) { r.Totals.NewBytes = 1 },
		"files below zero":           func(r *Record) { r.Totals.Files = -1 },
		"content below zero":         func(r *Record) { r.Parts[0].ContentBytes = -1 },
		"a link that steers":         func(r *Record) { r.Origin.Outside = []Outside{{"webroot/x", "/srv/\x1b[2J"}} },
		"a link of two lines":        func(r *Record) { r.Origin.Outside = []Outside{{"webroot/x\ny", "/srv"}} },
		"fewer links than none":      func(r *Record) { r.Origin.OutsideMore = -1 },
		"a piece named as it likes":  func(r *Record) { pieced(r, Piece{Name: "../../" + strings.Repeat("e", 58) + PieceEnding}) },
		"a part for a piece":         func(r *Record) { pieced(r, Piece{Name: strings.Repeat("e", 64) + Tar}) },
		"a piece in the wrong dress": func(r *Record) { pieced(r, Piece{Name: strings.Repeat("e", 64) + PieceEnding + ".age.age"}) },
		"a piece below zero":         func(r *Record) { pieced(r, Piece{Name: strings.Repeat("e", 64) + PieceEnding, Bytes: -1}) },
		"a piece beyond all bounds":  func(r *Record) { pieced(r, Piece{Name: strings.Repeat("e", 64) + PieceEnding, ContentBytes: 1 << 60}) },
		"a piece of another digest": func(r *Record) {
			pieced(r, Piece{Name: strings.Repeat("e", 64) + PieceEnding, ContentSHA256: "../x"})
		},
		"pieces of a table": func(r *Record) {
			pieced(r, Piece{Name: strings.Repeat("e", 64) + PieceEnding})
			r.Parts[0].Pieces, r.Parts[1].Pieces = nil, r.Parts[0].Pieces
		},
		"pieces of many files": func(r *Record) {
			pieced(r, Piece{Name: strings.Repeat("e", 64) + PieceEnding})
			r.Parts[0].Entries = 2
		},
		"pieces without end": func(r *Record) {
			pieced(r, slices.Repeat([]Piece{{Name: strings.Repeat("e", 64) + PieceEnding}}, mostPieces+1)...)
		},
	} {
		r := aRecord()
		forge(r)
		data, err := r.Encode(nil)
		require.NoError(t, err)
		_, err = DecodeRecord(data)
		assert.ErrorIs(t, err, ErrRecord, name)

		// What is sealed is looked at once it is open.
		key, err := age.GenerateX25519Identity()
		require.NoError(t, err)
		r.Encrypted = true
		for i := range r.Parts {
			r.Parts[i].Name += encryption.Ending
			for j := range r.Parts[i].Pieces {
				r.Parts[i].Pieces[j].Name += encryption.Ending
			}
		}
		to, err := encryption.ParseRecipients([]string{key.Recipient().String()})
		require.NoError(t, err)
		sealed, err := r.Seal(to)
		require.NoError(t, err)
		if data, err = sealed.Encode(nil); err == nil {
			if r, err = DecodeRecord(data); err == nil {
				err = r.Unseal(encryption.NewKeys(key))
			}
		}
		assert.ErrorIs(t, err, ErrRecord, "%s, sealed", name)
	}
}

// Notes and the like are shown everywhere, and could steer the terminal.
func TestWordsOfARecordSteerNoTerminal(t *testing.T) {
	r := aRecord()
	r.Note, r.Host, r.Program = "\x1b]0;x\x07well\r\n\tindeed\u202e ü", "a\x1b[2J", "b\n"
	r.Gaps = []Gap{{Path: "x", Kind: GapUnreadable, Why: "\x1b[31m"}}
	data, err := r.Encode(nil)
	require.NoError(t, err)
	r, err = DecodeRecord(data)
	require.NoError(t, err)
	assert.Equal(t, "?]0;x?well\n indeed? ü", r.Note)
	assert.Equal(t, []string{"a?[2J", "b?", "?[31m"}, []string{r.Host, r.Program, r.Gaps[0].Why})
}

// What a hostile site says of itself does not stop its backups.
func TestWhatASiteSaysIsTidied(t *testing.T) {
	r := aRecord()
	r.Origin.Address, r.Origin.Version = "javascript:\x1b[2J", "6.8\n\xff"
	r.Origin.Databases["main"] = DBOrigin{Engine: "mysql", Where: "a@b/c", Prefix: "kp\x00_", Version: strings.Repeat("ä", 5000)}
	require.Error(t, r.Origin.Check())
	r.Origin.Tidy()
	require.NoError(t, r.Origin.Check())
	assert.Equal(t, "6.8??", r.Origin.Version)
	assert.Empty(t, r.Origin.Address)
}

// pieced gives the first part pieces.
func pieced(r *Record, pieces ...Piece) { r.Parts[0].Entries, r.Parts[0].Pieces = 1, pieces }
