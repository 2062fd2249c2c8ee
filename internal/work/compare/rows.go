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
}

// RowPair is a row before and after.
type RowPair struct {
	Before string `json:"before"`
	After  string `json:"after"`
}

// Texts gives the SQL text of a table's rows, as often as it is asked.
type Texts func(ctx context.Context, name TableName, w io.Writer) error

const (
	// mostListed is how many rows of a kind are listed.
	mostListed = 1000
	// longestRow is how much of a row is listed, longestSuspect how much of one
	// that matters is looked at.
	longestRow     = 4 << 10
	longestSuspect = 4 << 20
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
	result  *Rows
}

func (c *rowComparison) run(ctx context.Context, rows int64) (*Rows, error) {
	c.result = &Rows{Table: c.name, Added: []string{}, Removed: []string{}, Changed: []RowPair{}}
	// Only in this pass of all digests in each pass; 1 is all of them.
	passes := rows/digestsAtOnce + 1
	removed, added := map[string]string{}, map[string]string{}
	for pass := range passes {
		counts, err := c.count(ctx, func(d digest) bool { return int64(d[0])%passes == pass })
		if err != nil {
			return nil, err
		}
		if len(counts) == 0 {
			continue
		}
		if err := c.collect(ctx, c.after, counts, -1, added, &c.result.AddedRows, c.matters); err != nil {
			return nil, err
		}
		was := c.matters
		if was != nil { // whatever a row that matters was before
			was = func(_ []string, row string) bool { return added[string(firstColumn([]byte(row), c.engine))] != "" }
		}
		if err := c.collect(ctx, c.before, counts, 1, removed, &c.result.RemovedRows, was); err != nil {
			return nil, err
		}
	}
	c.result.pair(removed, added, c.matters != nil)
	return c.result, nil
}

// count tells, of the rows with digests of this pass, how many more one side has
// than the other.
func (c *rowComparison) count(ctx context.Context, mine func(digest) bool) (map[digest]int, error) {
	counts := map[digest]int{}
	for _, side := range []struct {
		texts Texts
		step  int
	}{{c.before, 1}, {c.after, -1}} {
		err := c.eachRow(ctx, side.texts, func(row []byte) error {
			if d := digestOf(row); mine(d) {
				if counts[d] += side.step; counts[d] == 0 {
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
func (c *rowComparison) eachRow(ctx context.Context, texts Texts, visit func([]byte) error) error {
	return eachRow(ctx, texts, c.name, c.engine, func(head string) { c.columns = columnsOf(head) }, visit)
}

// collect reads a side again for the rows that the other lacks. found maps the
// first column, or the whole row where that is there twice, to the row.
func (c *rowComparison) collect(ctx context.Context, texts Texts, counts map[digest]int, sign int, found map[string]string, total *int64, matters func([]string, string) bool) error {
	return c.eachRow(ctx, texts, func(row []byte) error {
		d := digestOf(row)
		if counts[d]*sign <= 0 {
			return nil
		}
		counts[d] -= sign
		*total++
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
		key := string(firstColumn(row, c.engine))
		if _, twice := found[key]; twice || c.keyless {
			key = fmt.Sprintf("\x00%d %s", *total*int64(sign), row)
		}
		found[key] = string(row[:min(len(row), longest)])
		return nil
	})
}

// pair finds rows that are on both sides by their first column.
func (r *Rows) pair(removed, added map[string]string, all bool) {
	most := mostListed
	if all {
		most = len(removed) + len(added)
	}
	for _, key := range sorted(removed) {
		after, both := added[key]
		switch {
		case both && len(r.Changed) < most:
			r.Changed = append(r.Changed, RowPair{removed[key], after})
		case !both && len(r.Removed) < most:
			r.Removed = append(r.Removed, removed[key])
		}
		if both {
			r.ChangedRows++
			r.RemovedRows--
			r.AddedRows--
		}
	}
	for _, key := range sorted(added) {
		if _, both := removed[key]; !both && len(r.Added) < most {
			r.Added = append(r.Added, added[key])
		}
	}
}

// sorted are the keys, numbers in their own order.
func sorted(m map[string]string) []string {
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
	ix, err := h.ReadIndex(ctx)
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
