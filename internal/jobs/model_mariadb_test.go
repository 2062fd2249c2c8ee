package jobs

import (
	"database/sql"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"revlet/internal/archives/archive"
	"revlet/internal/database"
	"revlet/internal/platform/scratchserver"
)

// The smaller model test: the same idea on MariaDB, where accounts, tables of other
// names and the moments of a server's own come in. $REVLET_MODEL_MARIADB=N runs N more.
func TestModelMariaDB(t *testing.T) {
	if _, err := exec.LookPath("mariadbd"); err != nil {
		t.Skip("no MariaDB is installed")
	}
	t.Parallel()
	dir, err := os.MkdirTemp("", "rvmodel")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	server, err := scratchserver.StartMariaDB(t.Context(), dir, scratchserver.Options{Listen: true, Flags: []string{"--innodb-flush-log-at-trx-commit=0", "--skip-name-resolve"}})
	require.NoError(t, err)
	t.Cleanup(func() { _ = server.Stop() })
	root, err := server.Root()
	require.NoError(t, err)
	t.Cleanup(func() { _ = root.Close() })
	seeds := []uint64{1, 2, 3, 4}
	if more, err := strconv.Atoi(os.Getenv("REVLET_MODEL_MARIADB")); err == nil {
		for i := range more {
			seeds = append(seeds, uint64(1000+i))
		}
	}
	for _, seed := range seeds {
		t.Run(fmt.Sprintf("seed %d", seed), func(t *testing.T) { newServerModel(t, server, root, seed).run() })
	}
}

// rowsOf are the tables of a database, each with its rows.
type rowsOf map[string]map[int]string

func (r rowsOf) clone() rowsOf {
	all := rowsOf{}
	for name, rows := range r {
		all[name] = maps.Clone(rows)
	}
	return all
}

// savedRows is an archive that must exist.
type savedRows struct {
	name  string
	state rowsOf
}

// replaced is what a restore has set aside, and which tables it has brought.
type replaced struct {
	state   rowsOf
	brought []string
}

type serverModel struct {
	*bench
	r        *rand.Rand
	root     *sql.DB
	db       string
	port     int
	password string
	live     rowsOf
	archives []savedRows
	// before are what whole restores have set aside, the newest first.
	before []replaced
	log    []string
}

func newServerModel(t *testing.T, server *scratchserver.MariaDB, root *sql.DB, seed uint64) *serverModel {
	m := &serverModel{bench: &bench{t: t, dir: t.TempDir(), clock: time.Date(2026, 11, 2, 12, 0, 0, 0, time.UTC)}, r: rand.New(rand.NewPCG(seed, 1904)), root: root,
		db: fmt.Sprintf("model_%d", seed), port: server.Port, password: "first", live: rowsOf{}}
	for _, dir := range []string{"here", "far", "htdocs"} {
		require.NoError(t, os.Mkdir(m.path(dir), 0o700))
	}
	m.write("index.html", "a page")
	m.exec("CREATE DATABASE %[1]s CHARACTER SET utf8mb4; CREATE USER %[1]s@'127.0.0.1' IDENTIFIED BY 'first'; GRANT ALL ON %[1]s.* TO %[1]s@'127.0.0.1'", m.db)
	if seed%2 == 0 { // half of them may stage in a database of its own
		m.exec("GRANT ALL ON `rv\\_%%`.* TO %s@'127.0.0.1'", m.db)
	}
	t.Cleanup(func() {
		m.exec("DROP DATABASE %[1]s; DROP USER %[1]s@'127.0.0.1'", m.db)
		if t.Failed() {
			t.Log("what was done:\n  " + strings.Join(m.log, "\n  "))
		}
	})
	m.settings()
	m.open()
	for range 2 {
		m.makeTable()
	}
	return m
}

func (m *serverModel) exec(format string, args ...any) {
	m.t.Helper()
	_, err := m.root.Exec(fmt.Sprintf(format, args...))
	require.NoError(m.t, err)
}

func (m *serverModel) did(format string, args ...any) {
	m.log = append(m.log, fmt.Sprintf(format, args...))
}

func (m *serverModel) settings() {
	require.NoError(m.t, os.WriteFile(m.path("db.pw"), []byte(m.password), 0o600))
	text := fmt.Sprintf("time_zone: UTC\nstores:\n  here: {folder: ./here}\n  far: {folder: ./far}\nsites:\n  %s:\n    root: ./htdocs\n    recipe: none\n    stores: [here, far]\n    databases: {main: {mysql: \"%s@127.0.0.1:%d/%s\", password_file: ./db.pw}}\n", museum, m.db, m.port, m.db)
	require.NoError(m.t, os.WriteFile(m.path("revlet.yaml"), []byte(text), 0o600))
}

func (m *serverModel) reopen() {
	m.Close()
	m.open()
}

func (m *serverModel) run() {
	m.save()
	steps := []func(){m.makeTable, m.dropTable, m.edit, m.edit, m.edit, m.save, m.save, m.putBack, m.putBack, m.putTableBack, m.undo, m.undo, m.settle, m.newPassword, m.crash, m.crash, m.jump}
	for range modelSteps {
		steps[m.r.IntN(len(steps))]()
		require.Equal(m.t, m.live, m.seen(), "the live database")
	}
	for len(m.before) > 0 {
		m.undo()
		require.Equal(m.t, m.live, m.seen(), "taken back")
	}
	a := m.archives[m.r.IntN(len(m.archives))]
	require.NoError(m.t, m.restore(a.name, nil))
	require.Equal(m.t, a.state, m.seen(), "an archive is what was saved")
}

// seen reads the live database; what restores have set aside in it does not count.
func (m *serverModel) seen() rowsOf {
	m.t.Helper()
	all := rowsOf{}
	for _, name := range m.names("SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND TABLE_NAME NOT LIKE 'rv\\_%'") {
		all[name] = map[int]string{}
		rows, err := m.root.Query("SELECT id, v FROM `" + m.db + "`.`" + name + "`")
		require.NoError(m.t, err)
		for rows.Next() {
			var id int
			var v string
			require.NoError(m.t, rows.Scan(&id, &v))
			all[name][id] = v
		}
		require.NoError(m.t, rows.Close())
	}
	return all
}

func (m *serverModel) names(query string) (all []string) {
	rows, err := m.root.Query(query, m.db)
	require.NoError(m.t, err)
	defer rows.Close()
	for rows.Next() {
		var name string
		require.NoError(m.t, rows.Scan(&name))
		all = append(all, name)
	}
	return all
}

func (m *serverModel) table() string {
	names := slices.Sorted(maps.Keys(m.live))
	if len(names) == 0 {
		return ""
	}
	return names[m.r.IntN(len(names))]
}

func (m *serverModel) makeTable() {
	name := fmt.Sprintf("t%d", m.r.IntN(4))
	if m.live[name] != nil {
		return
	}
	m.did("make %s", name)
	m.exec("CREATE TABLE %s.%s (id INT PRIMARY KEY, v VARCHAR(40))", m.db, name)
	m.live[name] = map[int]string{}
}

func (m *serverModel) dropTable() {
	if name := m.table(); name != "" {
		m.did("drop %s", name)
		m.exec("DROP TABLE %s.%s", m.db, name)
		delete(m.live, name)
	}
}

func (m *serverModel) edit() {
	name := m.table()
	if name == "" {
		return
	}
	id, v := m.r.IntN(6), fmt.Sprintf("v%d 🔦", m.r.IntN(1000))
	if m.r.IntN(4) == 0 {
		m.did("delete %s %d", name, id)
		m.exec("DELETE FROM %s.%s WHERE id = %d", m.db, name, id)
		delete(m.live[name], id)
		return
	}
	m.did("%s %d becomes %s", name, id, v)
	m.exec("REPLACE INTO %s.%s VALUES (%d, '%s')", m.db, name, id, v)
	m.live[name][id] = v
}

func (m *serverModel) save() {
	m.later(time.Minute)
	d, err := m.Backup(m.t.Context(), museum, Order{Scope: archive.Full})
	require.NoError(m.t, err)
	require.Empty(m.t, d.Record.Gaps)
	m.did("back up %s", d.Record.Name)
	m.archives = append(m.archives, savedRows{d.Record.Name, m.live.clone()})
}

// restore puts the database of an archive back, or one of its tables.
func (m *serverModel) restore(name string, rows map[string]*database.RowSelection) error {
	h, err := m.Find(m.t.Context(), name, time.Time{})
	if err != nil {
		return err
	}
	s, err := m.OpenForRestore(m.t.Context(), h)
	if err != nil {
		return err
	}
	_, err = m.Restore(m.t.Context(), RestoreOrder{Archive: h, Site: s, Database: true, Rows: rows})
	return err
}

func (m *serverModel) putBack() {
	m.later(time.Second)
	a := m.archives[m.r.IntN(len(m.archives))]
	m.did("restore %s", a.name)
	require.NoError(m.t, m.restore(a.name, nil))
	m.restored(a)
}

func (m *serverModel) restored(a savedRows) {
	m.before, m.live = append([]replaced{{m.live, slices.Collect(maps.Keys(a.state))}}, m.before...), a.state.clone()
}

// undone is the database as taking back must leave it: as it was, and tables that were
// made since stay.
func (m *serverModel) undone() {
	last, since := m.before[0], m.live
	m.live, m.before = last.state.clone(), m.before[1:]
	for name, rows := range since {
		if m.live[name] == nil && !slices.Contains(last.brought, name) {
			m.live[name] = rows
		}
	}
}

// putTableBack puts one table back, and takes that back at once or settles.
func (m *serverModel) putTableBack() {
	a := m.archives[m.r.IntN(len(m.archives))]
	names := slices.Sorted(maps.Keys(a.state))
	if len(names) == 0 || len(m.before) > 0 {
		return // what is set aside by others would be settled along
	}
	name := names[m.r.IntN(len(names))]
	m.later(time.Second)
	m.did("restore table %s from %s", name, a.name)
	require.NoError(m.t, m.restore(a.name, map[string]*database.RowSelection{"main": {Tables: []string{name}, Archived: names}}))
	was := m.live.clone()
	m.live[name] = maps.Clone(a.state[name])
	require.Equal(m.t, m.live, m.seen(), "the table, and no other")
	journals, err := m.ToTakeBack(m.t.Context(), museum)
	require.NoError(m.t, err)
	if m.r.IntN(2) == 0 {
		m.did("undo")
		_, err = m.Undo(m.t.Context(), journals[0])
		m.live = was
	} else {
		m.did("settle")
		_, err = m.Settle(m.t.Context(), journals[0], true)
	}
	require.NoError(m.t, err)
}

func (m *serverModel) undo() {
	if len(m.before) == 0 {
		return
	}
	m.did("undo")
	require.NoError(m.t, m.takeBack())
	m.undone()
}

func (m *serverModel) settle() {
	if len(m.before) == 0 || m.r.IntN(2) == 0 {
		return
	}
	m.did("settle")
	journals, err := m.ToTakeBack(m.t.Context(), museum)
	require.NoError(m.t, err)
	_, err = m.Settle(m.t.Context(), journals[0], true)
	require.NoError(m.t, err)
	m.before = nil
	require.Empty(m.t, m.names("SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND TABLE_NAME LIKE 'rv\\_%'"), "nothing is left")
}

func (m *serverModel) newPassword() {
	m.password = fmt.Sprintf("pass %d", m.r.IntN(1000))
	m.did("another password")
	m.exec("ALTER USER %s@'127.0.0.1' IDENTIFIED BY '%s'", m.db, m.password)
	m.settings()
	m.reopen()
}

func (m *serverModel) jump() {
	m.later(time.Duration(m.r.IntN(72*60)-24*60) * time.Minute)
	m.did("the clock jumps to %s", m.clock)
	m.reopen()
}

// crash has the machine die in the middle of a restore or of taking it back.
func (m *serverModel) crash() {
	m.later(time.Second)
	m.powerCut(m.r.IntN(40))
	back := len(m.before) > 0 && m.r.IntN(2) == 0
	a := m.archives[m.r.IntN(len(m.archives))]
	var err error
	if back {
		err = m.takeBack()
	} else {
		err = m.restore(a.name, nil)
	}
	m.did("power gone, taking back %v, from %s: %v", back, a.name, err)
	journals := m.powerBack()
	switch {
	case len(journals) == len(m.before):
	case back:
		m.undone()
	default:
		m.restored(a)
	}
}
