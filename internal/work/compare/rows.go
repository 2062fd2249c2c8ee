package compare

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/store"
)

// Rows tells which rows of a table differ, as they stand in the SQL text.
type Rows struct {
	Table TableName `json:"-"`
	// Added and Removed are rows of one side only; Changed are pairs of those
	// whose first column, as a rule the key, is the same.
	Added   []string  `json:"added"`
	Removed []string  `json:"removed"`
	Changed []RowPair `json:"changed"`
	// Counts of what differs in all: the lists hold the first of each.
	AddedRows   int64 `json:"added_rows"`
	RemovedRows int64 `json:"removed_rows"`
	ChangedRows int64 `json:"changed_rows"`
	// Keyless tells that the table has no key: a row that changed is one removed
	// and one added.
	Keyless bool `json:"keyless"`
	// TooMany tells that so many rows differ that it was not found out which of them changed: ChangedRows is 0,
	// and a row that changed counts as one removed and one added.
	TooMany bool `json:"too_many"`
}

// RowPair is a row before and after, as SQL text, the first 4 KiB of it.
type RowPair struct {
	Before string `json:"before"`
	After  string `json:"after"`
	// Columns are those that differ; none where a row is too long for that, or the sides do not have the same.
	Columns []ColumnChange `json:"columns"`
}

// ColumnChange is a value before and after, as SQL text; of a long one the stretch from a little before the
// first difference, at most 4 KiB.
type ColumnChange struct {
	Column string `json:"column"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// Texts gives the SQL text of a table's rows, as often as it is asked.
type Texts func(ctx context.Context, name TableName, w io.Writer) error

const (
	// mostListed is how many rows of a kind are listed.
	mostListed = 1000
	// longestRow is how much of a row is listed, longestSuspect how much of one
	// that matters is looked at, and longestRead how much of one of which is told where it differs;
	// rowsRead bounds all of those together.
	longestRow     = 4 << 10
	longestSuspect = 4 << 20
	longestRead    = 1 << 20
	rowsRead       = 48 << 20
	// mostPaired is how many keys of rows that differ are kept to tell those that changed from others.
	mostPaired = 1 << 20
	// around is how much of a value is shown before the place where it differs, in bytes.
	around = 40
	// digestsAtOnce bounds how many digests of rows are in memory: a table with
	// more is gone through several times, a pass of it each time.
	digestsAtOnce = 2 << 20
)

type digest [16]byte

func digestOf(row []byte) digest {
	sum := sha256.Sum256(row)
	return digest(sum[:16])
}

// CompareRows compares a table's rows of two sides. rows is how many there are
// on the larger one. The rows of a table without a key are compared as a
// multiset: none of them is the other one changed.
func CompareRows(ctx context.Context, name TableName, engine string, rows int64, keyed bool, before, after Texts) (*Rows, error) {
	r, err := (&rowComparison{name: name, engine: engine, before: before, after: after, keyless: !keyed}).run(ctx, rows)
	if err == nil {
		r.Keyless = !keyed
	}
	return r, err
}

// rowComparison compares the rows of one table.
type rowComparison struct {
	name          TableName
	engine        string
	before, after Texts
	// matters tells of a row that it is kept, and whole, however many differ; nil
	// tells so of none.
	matters func(columns []string, row string) bool

	keyless bool
	columns []string
	// named are the names of each side's columns.
	named map[sides][]string
	// room is how many bytes of rows may still be kept whole.
	room   int
	result *Rows
	// keys are digests of the keys of rows that differ, on either side.
	keys map[digest]sides
}

// kept is a row, or the beginning of one.
type kept struct {
	text  string
	whole bool
}

// sides tells where something is.
type sides byte

const (
	inBefore sides = 1 << iota
	inAfter
)

func (c *rowComparison) run(ctx context.Context, rows int64) (*Rows, error) {
	c.result = &Rows{Table: c.name, Added: []string{}, Removed: []string{}, Changed: []RowPair{}}
	c.room, c.keys, c.named = rowsRead, map[digest]sides{}, map[sides][]string{}
	// Only in this pass of all digests in each pass; 1 is all of them.
	passes := rows/digestsAtOnce + 1
	removed, added := map[string]kept{}, map[string]kept{}
	for pass := range passes {
		counts, err := c.count(ctx, func(d digest) bool { return int64(d[0])%passes == pass })
		if err != nil {
			return nil, err
		}
		if len(counts) == 0 {
			continue
		}
		if err := c.collect(ctx, inAfter, counts, added, &c.result.AddedRows, c.matters); err != nil {
			return nil, err
		}
		was := c.matters
		if was != nil { // whatever a row that matters was before
			was = func(_ []string, row string) bool { return added[string(firstColumn([]byte(row), c.engine))].text != "" }
		}
		if err := c.collect(ctx, inBefore, counts, removed, &c.result.RemovedRows, was); err != nil {
			return nil, err
		}
	}
	c.pair(removed, added)
	return c.result, nil
}

// count tells, of the rows with digests of this pass, how many more one side has
// than the other.
func (c *rowComparison) count(ctx context.Context, mine func(digest) bool) (map[digest]int, error) {
	counts := map[digest]int{}
	for at, step := range map[sides]int{inBefore: 1, inAfter: -1} {
		err := c.eachRow(ctx, at, func(row []byte) error {
			if d := digestOf(row); mine(d) {
				if counts[d] += step; counts[d] == 0 {
					delete(counts, d)
				}
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return counts, nil
}

// eachRow visits the rows of a side, and notes the columns' names.
func (c *rowComparison) eachRow(ctx context.Context, at sides, visit func([]byte) error) error {
	texts := c.before
	if at == inAfter {
		texts = c.after
	}
	return eachRow(ctx, texts, c.name, c.engine, func(head string) {
		c.columns = columnsOf(head)
		c.named[at] = c.columns
	}, visit)
}

// collect reads a side again for the rows that the other lacks. found maps the
// first column, or the whole row where that is there twice, to the row.
func (c *rowComparison) collect(ctx context.Context, at sides, counts map[digest]int, found map[string]kept, total *int64, matters func([]string, string) bool) error {
	sign := 1
	if at == inAfter {
		sign = -1
	}
	return c.eachRow(ctx, at, func(row []byte) error {
		d := digestOf(row)
		if counts[d]*sign <= 0 {
			return nil
		}
		counts[d] -= sign
		*total++
		key := string(firstColumn(row, c.engine))
		c.note(key, at)
		longest := longestRow
		if matters != nil {
			if !matters(c.columns, string(row)) {
				return nil
			}
			longest = longestSuspect
		}
		if len(found) >= 2*mostListed && matters == nil {
			return nil
		}
		if _, twice := found[key]; twice || c.keyless {
			key = fmt.Sprintf("\x00%d %s", *total*int64(sign), row)
		}
		if matters == nil && len(row) > longest && len(row) <= min(longestRead, c.room) {
			c.room -= len(row)
			longest = len(row)
		}
		found[key] = kept{string(row[:min(len(row), longest)]), len(row) <= longest}
		return nil
	})
}

// note keeps that a row of a side differs, for counting those that are on both.
func (c *rowComparison) note(key string, at sides) {
	if d := digestOf([]byte(key)); !c.keyless && (c.keys[d] != 0 || len(c.keys) < mostPaired) {
		c.keys[d] |= at
	} else if !c.keyless {
		c.result.TooMany = true
	}
}

// pair finds rows that are on both sides by their first column.
func (c *rowComparison) pair(removed, added map[string]kept) {
	r, most := c.result, mostListed
	if c.matters != nil {
		most = len(removed) + len(added)
	}
	for _, at := range c.keys {
		if at == inBefore|inAfter && !r.TooMany {
			r.ChangedRows++
			r.RemovedRows--
			r.AddedRows--
		}
	}
	for _, key := range sorted(removed) {
		after, both := added[key]
		switch {
		case both && len(r.Changed) < most:
			r.Changed = append(r.Changed, c.pairOf(removed[key], after))
		case !both && len(r.Removed) < most && c.only(key, inBefore):
			r.Removed = append(r.Removed, removed[key].cut(c.matters != nil))
		}
	}
	for _, key := range sorted(added) {
		if _, both := removed[key]; !both && len(r.Added) < most && c.only(key, inAfter) {
			r.Added = append(r.Added, added[key].cut(c.matters != nil))
		}
	}
}

// only tells whether a row is nowhere else: of more rows than are kept, the other half of one that
// changed may not be among them. One that matters is always listed.
func (c *rowComparison) only(key string, at sides) bool {
	known := c.keys[digestOf([]byte(key))]
	return c.matters != nil || known == 0 || known == at
}

// cut is as much of a row as is listed, or all that was kept of it.
func (k kept) cut(whole bool) string {
	if whole || len(k.text) <= longestRow {
		return k.text
	}
	return k.text[:longestRow]
}

// pairOf is a row that changed, with the columns that differ.
func (c *rowComparison) pairOf(before, after kept) RowPair {
	p := RowPair{Before: before.cut(c.matters != nil), After: after.cut(c.matters != nil), Columns: []ColumnChange{}}
	if c.matters != nil || !before.whole || !after.whole || !slices.Equal(c.named[inBefore], c.named[inAfter]) {
		return p
	}
	was, now := fields(before.text, c.engine), fields(after.text, c.engine)
	if len(was) != len(now) {
		return p
	}
	for i := range was {
		if was[i] == now[i] {
			continue
		}
		name := fmt.Sprintf("column %d", i+1)
		if i < len(c.named[inAfter]) {
			name = c.named[inAfter][i]
		}
		b, a := whereDifferent(was[i], now[i])
		p.Columns = append(p.Columns, ColumnChange{Column: name, Before: b, After: a})
	}
	return p
}

// whereDifferent cuts what two values have in common off their beginnings, but for a little, and what is
// beyond a row's length as it is listed off their ends.
func whereDifferent(before, after string) (string, string) {
	from := 0
	for from < len(before) && from < len(after) && before[from] == after[from] {
		from++
	}
	from = max(0, from-around)
	for from > 0 && !utf8.RuneStart(before[from]) {
		from--
	}
	cut := func(s string) string {
		s = s[from:]
		if len(s) > longestRow {
			s = strings.ToValidUTF8(s[:longestRow], "") + "…"
		}
		if from > 0 {
			s = "…" + s
		}
		return s
	}
	return cut(before), cut(after)
}

// sorted are the keys, numbers in their own order.
func sorted(m map[string]kept) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, func(a, b string) int {
		if len(a) != len(b) && isNumber(a) && isNumber(b) {
			return len(a) - len(b)
		}
		return bytes.Compare([]byte(a), []byte(b))
	})
	return keys
}

func isNumber(s string) bool {
	for _, c := range []byte(s) {
		if c < '0' || c > '9' {
			return false
		}
	}
	return s != ""
}

// eachRow visits the rows in a table's SQL text, after the line that begins them
// and names their columns. A row is only good until the visit returns.
func eachRow(ctx context.Context, texts Texts, name TableName, engine string, head func(string), visit func(row []byte) error) error {
	in, out := io.Pipe()
	done := make(chan error, 1)
	go func() {
		err := texts(ctx, name, out)
		_ = out.CloseWithError(err)
		done <- err
	}()
	text := bufio.NewReaderSize(in, 1<<18)
	var err error
	if engine == "postgres" {
		err = copiedRows(text, head, visit)
	} else {
		err = insertedRows(text, engine == "mysql", head, visit)
	}
	_ = in.CloseWithError(err)
	if textErr := <-done; textErr != nil && err == nil {
		err = textErr
	}
	return err
}

// EachRow visits the rows in a table's SQL text. A row is only good until the visit returns.
func EachRow(ctx context.Context, texts Texts, name TableName, engine string, visit func(Row) error) error {
	var columns []string
	return eachRow(ctx, texts, name, engine, func(line string) { columns = columnsOf(line) }, func(row []byte) error {
		return visit(rowOf(columns, string(row), engine))
	})
}

// EachRecord visits the rows in a table's SQL text, with the columns in their order. The columns may be fewer
// than the values, where the text does not name them.
func EachRecord(ctx context.Context, texts Texts, name TableName, engine string, visit func(columns, values []string) error) error {
	var columns []string
	return eachRow(ctx, texts, name, engine, func(line string) { columns = columnsOf(line) }, func(row []byte) error {
		return visit(columns, Values(string(row), engine))
	})
}

// copiedRows reads the text format of COPY: a row a line.
func copiedRows(in *bufio.Reader, head func(string), visit func([]byte) error) error {
	inside := false
	for {
		line, err := readLine(in)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		switch {
		case !inside:
			inside = bytes.HasPrefix(line, []byte("COPY ")) && bytes.HasSuffix(line, []byte(" FROM stdin;"))
			if inside {
				head(string(line))
			}
		case string(line) == `\.`:
			inside = false
		default:
			if err := visit(line); err != nil {
				return err
			}
		}
	}
}

// readLine reads a line of any length, without its end.
func readLine(in *bufio.Reader) ([]byte, error) {
	line, err := in.ReadSlice('\n')
	if errors.Is(err, bufio.ErrBufferFull) {
		whole := slices.Clone(line)
		for errors.Is(err, bufio.ErrBufferFull) {
			line, err = in.ReadSlice('\n')
			whole = append(whole, line...)
		}
		line = whole
	}
	if err != nil && (!errors.Is(err, io.EOF) || len(line) == 0) {
		return nil, err
	}
	return bytes.TrimSuffix(line, []byte("\n")), nil
}

// insertedRows reads the rows of INSERT statements: whatever stands between
// VALUES and the semicolon, a pair of parentheses a row, quotes heeded.
func insertedRows(in *bufio.Reader, escapes bool, head func(string), visit func([]byte) error) error {
	for {
		line, err := readLine(in)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if bytes.HasPrefix(line, []byte("INSERT INTO ")) && bytes.HasSuffix(line, []byte(" VALUES")) {
			head(string(line))
			if err := valueRows(in, escapes, visit); err != nil {
				return err
			}
		}
	}
}

// valueRows reads up to the semicolon; escapes tells that a backslash takes the
// next byte along, as in MySQL.
func valueRows(in *bufio.Reader, escapes bool, visit func([]byte) error) error {
	var row []byte
	depth, quoted := 0, false
	for {
		c, err := in.ReadByte()
		if err != nil {
			return fmt.Errorf("the SQL text ends inside a statement: %w", err)
		}
		if depth > 0 {
			row = append(row, c)
		}
		switch {
		case quoted && escapes && c == '\\':
			next, err := in.ReadByte()
			if err != nil {
				return fmt.Errorf("the SQL text ends inside a string: %w", err)
			}
			row = append(row, next)
		case c == '\'':
			quoted = !quoted
		case quoted:
		case c == '(':
			if depth++; depth == 1 {
				row = append(row[:0], c)
			}
		case c == ')':
			if depth--; depth == 0 {
				if err := visit(row); err != nil {
					return err
				}
			}
		case c == ';' && depth == 0:
			return nil
		}
	}
}

// firstColumn is the text of a row's first value.
func firstColumn(row []byte, engine string) []byte {
	if engine == "postgres" {
		first, _, _ := bytes.Cut(row, []byte("\t"))
		return first
	}
	quoted, skip := false, false
	for i, c := range row {
		switch {
		case skip:
			skip = false
		case quoted && c == '\\' && engine == "mysql":
			skip = true
		case c == '\'':
			quoted = !quoted
		case !quoted && (c == ',' || c == ')' && i == len(row)-1):
			return row[1:i]
		}
	}
	return row
}

// TextsOf gives the rows of an archive's tables from its parts, from whichever
// store has them sound.
func TextsOf(ctx context.Context, h *catalog.Held) (Texts, error) {
	ix, err := h.ReadDatabaseIndex(ctx)
	if err != nil {
		return nil, err
	}
	return func(ctx context.Context, name TableName, w io.Writer) error {
		for _, p := range h.Parts {
			if p.Kind != archive.KindRows || p.Database != name.Database || p.Table != name.Table {
				continue
			}
			if err := copyPart(ctx, h, ix, p, w); err != nil {
				return err
			}
		}
		return nil
	}, nil
}

// copyPart writes a part's content, once it is known to be sound.
func copyPart(ctx context.Context, h *catalog.Held, ix *catalog.Index, p archive.Part, w io.Writer) error {
	return h.EachStore(func(s store.Named) error {
		if err := ix.Check(ctx, h, s, p, nil); err != nil {
			return err
		}
		in, err := h.OpenPart(ctx, s, p, nil)
		if err != nil {
			return err
		}
		defer in.Close()
		_, err = io.Copy(w, in)
		return err
	})
}
