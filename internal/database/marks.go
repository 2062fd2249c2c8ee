package database

import "context"

// Marks are what a server itself says of how tables were at a snapshot: what vouches later for those in which nothing has changed
// since. All times are since 1970, by the server's clock: Taken in seconds, and Began and Counted as exactly as the server
// says them.
type Marks struct {
	// Server says which server it is, and where its data lie.
	Server string `json:"server"`
	// Taken is when the snapshot was begun, Began when the server was, and Counted since when it counts what it does.
	Taken   int64 `json:"taken"`
	Began   int64 `json:"began"`
	Counted int64 `json:"counted"`
	// Ahead is by how many milliseconds the server's clock is ahead of the one of this machine that nobody sets, and Boot which
	// run of this machine that is: whoever sets the server's clock changes it.
	Ahead int64  `json:"ahead"`
	Boot  string `json:"boot"`
	// Oldest is the first transaction that had not ended when the snapshot was begun, on servers that number them.
	Oldest int64 `json:"oldest,omitempty"`
	// Altered is how often tables had been changed as a whole on the server before.
	Altered int64 `json:"altered"`
	// Tables are those that the server vouches for.
	Tables map[string]Mark `json:"tables"`
}

// Mark is what is known of a table: when it was made, or its definition changed, and when its rows last changed; or, where the
// server does not say so, how often they did as far as it knows, what they are kept and written by, and how many the archive has.
type Mark struct {
	Made       int64  `json:"made,omitempty"`
	Changed    int64  `json:"changed,omitempty"`
	Definition string `json:"definition,omitempty"`
	Rows       int64  `json:"-"`
}

// RunsOn tells whether it is the same server that has run on since marks were made, and counted on.
func (m *Marks) RunsOn(before *Marks) bool {
	return m.Server == before.Server && m.Began == before.Began && m.Counted == before.Counted
}

// Continues tells whether a server has run on since marks were made, with no table changed as a whole, by a clock that was not
// set by more than slack seconds.
func (m *Marks) Continues(before *Marks, slack int64) bool {
	near := func(a, b, slack int64) bool { return a-b <= slack && b-a <= slack }
	return m.Boot != "" && m.Boot == before.Boot && near(m.Ahead, before.Ahead, slack*1000) && m.Server == before.Server && near(m.Began, before.Began, slack) &&
		near(m.Counted, before.Counted, slack) && m.Altered == before.Altered && m.Taken >= before.Taken
}

// Same tells whether a table is what it was at a mark, which had to be earlier than latest: what changes in the same second has
// the same time.
func (m Mark) Same(before Mark, latest int64) bool {
	return before.Changed != 0 && m.Made == before.Made && m.Changed == before.Changed && before.Made < latest && before.Changed < latest
}

// Voucher is a Source whose server says of tables that they have not changed.
type Voucher interface {
	// SnapshotSince is Snapshot, but that the rows of tables are not in Units which are, as the server says, what they were
	// when marks were made. Without marks, and wherever anything is doubtful, all are.
	SnapshotSince(ctx context.Context, before *Marks) (Snapshot, error)
}

// Vouched is a Snapshot of a Voucher.
type Vouched interface {
	// Marks are of this snapshot; nil where the server vouches for nothing.
	Marks() *Marks
	// Unchanged names the tables whose rows are not in Units.
	Unchanged() []string
}
