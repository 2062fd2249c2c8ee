// Package sqltexttest gives tests the texts by which readers of foreign text are made
// slow: short pieces, repeated. A reader that goes back for each of them takes hours for
// a few MiB.
package sqltexttest

import (
	"strings"
	"testing"
	"time"
)

// pieces are what is repeated; what stands before | comes once, at the beginning, and what
// follows a second one at the end.
var pieces = []string{
	"a ", "1.1", "1e", "(", ")", "()", ",", ";", "'", "''", "'a',", "\\", "`", "``", "`a`,", "\"", "\"\"", "[", "$", "$a", "$a$", "$$", "/", "/*", "/**/", "*/", "/*!", "/*!1 */",
	"/*!99999 /*!1", "-", "--", "-- \n", "#", "#\n", "\n", " ", "\x00", "\xff", "é", "E'", "E'\\'", "BEGIN ", "CASE ", "END ", "CREATE ", "x'", "0x",
	"INSERT INTO `t` (`a`) VALUES\n|(1,'a'),\n|(1)", "INSERT INTO `t` (`a`) VALUES\n(|1.|)", "INSERT INTO `t` VALUES (|1,|1)", "INSERT INTO t VALUES (|+-|1)",
	"INSERT INTO `t` (|`a`, |`b`) VALUES\n(1)", "INSERT INTO t VALUES ('|a\\'|')", "CREATE TABLE t (|a int, |b int)", "CREATE TABLE t (a int) |COMMENT='a' |",
	"CREATE TABLE t (a int) PARTITION BY HASH (a) |(PARTITION a) |", "CREATE TABLE t (a int DEFAULT |(|", "/*!50003 CREATE TRIGGER x |/*!1 a */ |*/",
	"CREATE FUNCTION f() RETURNS int LANGUAGE sql AS $x$|$y |$x$", "CREATE VIEW v AS SELECT |a.b, |c", "ALTER TABLE t |ADD KEY (a), |ADD KEY (b)", "COPY t (|a, |b) FROM stdin",
	"SELECT setval('|a.|', 1)", "SET |@a = 1, |@b = 2", "DROP TABLE IF EXISTS |a, |b", "DELIMITER |x|\nSELECT 1 x", "<?php |$a = [|", "<?php |define('A', |", "<?php $a = |'a' . |'b';", "<?php |/* */|",
	"<?php <<<X\n|X \n|", "<?php $a = |array(|", "<?php |\"{$a|", "<?php $a|['b']| = 1;",
}

// Linear has read run on 128 KiB of each kind, and fails where one takes longer than
// any reader needs that looks at each byte a few times. A machine that does something else for
// a while is asked again.
func Linear(t *testing.T, read func(text string)) {
	const size, most, tries = 128 << 10, 2 * time.Second, 3
	for _, p := range pieces {
		parts := strings.SplitN(p, "|", 3)
		if len(parts) == 1 {
			parts = []string{"", p, ""}
		}
		text := parts[0] + strings.Repeat(parts[1], size/len(parts[1])) + strings.Join(parts[2:], "")
		var took time.Duration
		for try := 0; try == 0 || took > most && try < tries; try++ {
			begun := time.Now()
			read(text)
			took = time.Since(begun)
		}
		if took > most {
			t.Errorf("%.40q repeated to 128 KiB takes %s, the last of %d times", p, took.Round(time.Millisecond), tries)
		}
	}
}
