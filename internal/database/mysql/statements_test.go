package mysql

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"revlet/internal/database"
)

func TestOnlyLiteralsAreInserted(t *testing.T) {
	for _, good := range []string{
		"INSERT INTO `t` (`a`) VALUES\n(1)",
		"INSERT INTO `t` (`a`, `b``c`) VALUES\n(1,'it\\'s; (SELECT 1)'),\n(-1.5e-3,NULL)",
		"INSERT INTO `t` (`a`) VALUES\n(0x00ff),\n(_utf8mb4'{\"a\": 1}'),\n('\\\\')",
	} {
		_, err := checkInsert([]byte(good), "t")
		assert.NoError(t, err, good)
	}
	for _, bad := range []string{
		"INSERT INTO `t` (`a`) VALUES\n((SELECT password FROM mysql.user))",
		"INSERT INTO `t` (`a`) VALUES\n(1), (2)",
		"INSERT INTO `t` (`a`) VALUES\n(1);\nDROP TABLE t",
		"INSERT INTO `t` (`a`) VALUES\n(LOAD_FILE('/etc/passwd'))",
		"INSERT INTO `t` (`a`) VALUES\n('a' 'b')",
		"INSERT INTO `t` (`a`) VALUES\n('open",
		"INSERT INTO `t` (`a`) VALUES\n(--)",
		"INSERT INTO `other` (`a`) VALUES\n(1)",
		"INSERT INTO `t` (`a`) SELECT 1",
		"INSERT INTO `t` (`a`) VALUES\n(1) ON DUPLICATE KEY UPDATE a = SLEEP(9)",
		"REPLACE INTO `t` (`a`) VALUES\n(1)",
	} {
		_, err := checkInsert([]byte(bad), "t")
		assert.ErrorIs(t, err, database.ErrForeignSQL, bad)
	}
}

// FuzzCheckInsert: whatever is accepted must be one statement of literals, so
// that nothing but quotes, digits and commas stands outside strings.
func FuzzCheckInsert(f *testing.F) {
	f.Add("(1,'a'),\n(NULL,0xff)")
	f.Fuzz(func(t *testing.T, values string) {
		stmt := "INSERT INTO `t` (`a`) VALUES\n" + values
		if _, err := checkInsert([]byte(stmt), "t"); err != nil {
			return
		}
		outside := withoutLiterals(values)
		for _, word := range []string{";", "SELECT", "--", "/*", "#", "@"} {
			if strings.Contains(outside, word) {
				t.Fatalf("accepted %q", values)
			}
		}
	})
}

func TestUnknownCollationsAreMappedAndSaid(t *testing.T) {
	var notes []string
	known := map[string]bool{"utf8mb4_unicode_ci": true, "utf8mb4_bin": true, "latin1_general_ci": true}
	out := knownCollations("`a` text COLLATE utf8mb4_0900_ai_ci, `b` text COLLATE utf8mb4_0900_bin) DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_uca1400_ai_ci", known, func(n string) { notes = append(notes, n) })
	assert.Equal(t, "`a` text COLLATE utf8mb4_unicode_ci, `b` text COLLATE utf8mb4_bin) DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_ci", out)
	assert.Len(t, notes, 3)
	engines := map[string]bool{"innodb": true}
	assert.Equal(t, "(\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4", knownEngine("(\n) ENGINE=Aria DEFAULT CHARSET=utf8mb4 PAGE_CHECKSUM=1", engines, func(n string) { notes = append(notes, n) }))
	assert.Equal(t, "(\n) ENGINE=InnoDB", knownEngine("(\n) ENGINE=InnoDB", engines, nil))
	assert.Contains(t, notes[3], "Aria")
}
