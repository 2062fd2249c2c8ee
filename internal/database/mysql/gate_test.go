package mysql

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/database"
	"revlet/internal/database/sqltext"
	"revlet/internal/database/sqltext/sqltexttest"
)

var (
	mariadb1011 = serverVersion{version: 101106, maria: true}
	mysql80     = serverVersion{version: 80036, maria: false}
)

func TestVersionsOfServersAreUnderstood(t *testing.T) {
	assert.Equal(t, mariadb1011, parseVersion("10.11.6-MariaDB-0+deb12u1"))
	assert.Equal(t, mariadb1011, parseVersion("5.5.5-10.11.6-MariaDB"))
	assert.Equal(t, mysql80, parseVersion("8.0.36"))
}

// What a server would read in a versioned comment is looked at, and run, in the open.
func TestVersionedCommentsAreOpened(t *testing.T) {
	for _, c := range []struct{ in, maria, mysql string }{
		{"/*!40000 DROP DATABASE x */", "DROP DATABASE x", "DROP DATABASE x"},
		{"/*!50701 A */ B", "B", "A   B"},
		{"/*M!100101 A */ B", "A   B", "B"},
		{"/*M!999999\\- enable the sandbox mode */ B", "B", "B"},
		{"/*! A */", "A", "A"},
		{"/*!50001 A /* x */ B /*!80000 C */ */", "A   B", "A   B   C"},
		{"A/**/B -- x\n C", "A B   C", "A B   C"},
		{"/*!80036 A */", "", "A"},
		{"/*!80037 A */", "", ""},
		{"'/*!40000 x */'", "'/*!40000 x */'", "'/*!40000 x */'"},
	} {
		assert.Equal(t, c.maria, sqltext.Write(mariadb1011.open(c.in), false), c.in)
		assert.Equal(t, c.mysql, sqltext.Write(mysql80.open(c.in), false), c.in)
	}
}

func TestSchemaHoldsNothingElse(t *testing.T) {
	for _, good := range []string{
		"CREATE TABLE `a``b` (\n  `x` int DEFAULT 1 COMMENT 'SELECT; CONNECTION='\n) ENGINE=InnoDB",
		"CREATE TABLE `a``b` (\n  `x` int(11) NOT NULL AUTO_INCREMENT,\n  `select` json DEFAULT (json_object()) CHECK (json_valid(`select`)),\n  `g` int GENERATED ALWAYS AS (`x` + 1) VIRTUAL,\n  PRIMARY KEY (`x`),\n  KEY `k` (`g`) USING BTREE,\n  CONSTRAINT `f` FOREIGN KEY (`g`) REFERENCES `other`.`p` (`id`) ON DELETE CASCADE\n) ENGINE=InnoDB AUTO_INCREMENT=7 DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci ROW_FORMAT=COMPRESSED KEY_BLOCK_SIZE=8 COMMENT='lamps' `PAGE_COMPRESSED`=1 STATS_PERSISTENT=0",
		"CREATE TABLE `a``b` (\n  `x` int\n) ENGINE=Aria DEFAULT CHARSET=latin1 PAGE_CHECKSUM=1 TRANSACTIONAL=0 WITH SYSTEM VERSIONING\n PARTITION BY SYSTEM_TIME INTERVAL 1 MONTH STARTS TIMESTAMP'2026-01-01 00:00:00' (PARTITION `p0` HISTORY ENGINE = Aria, PARTITION `pn` CURRENT ENGINE = Aria)",
		"CREATE TABLE `a``b` (\n  `x` int\n) /*!50100 TABLESPACE `innodb_system` */ ENGINE=InnoDB\n/*!50100 PARTITION BY RANGE (year(`x`))\n(PARTITION p0 VALUES LESS THAN (1990) ENGINE = InnoDB, PARTITION p1 VALUES LESS THAN MAXVALUE COMMENT = 'x' ENGINE = InnoDB) */",
		"CREATE SEQUENCE `a``b` start with 1 minvalue -5 maxvalue 9223372036854775806 increment by 1 cache 1000 nocycle ENGINE=InnoDB",
		"DO SETVAL(`a``b`, -150, 0)",
	} {
		name, run, err := checkSchema(good, mariadb1011)
		require.NoError(t, err, good)
		assert.Equal(t, "a`b", name, good)
		assert.NotContains(t, run, "/*")
	}
	for _, bad := range []string{
		"DROP TABLE `a`", "GRANT ALL ON *.* TO x", "SET GLOBAL general_log = 1", "INSERT INTO `a` VALUES (1)", "CREATE DATABASE x",
		"SET SESSION sql_mode = '', time_zone = '+00:00', GLOBAL max_connections = 1", "SET SESSION sql_mode = 'ANSI_QUOTES'", "SET SESSION sql_mode = 'NO_BACKSLASH_ESCAPES'", "SET SESSION sql_mode = 'STRICT_ALL_TABLES,ORACLE'",
		// Other data, or other tables, under the name of a definition.
		"CREATE TABLE `a` (`x` int) AS SELECT * FROM mysql.user", "CREATE TABLE `a` (`x` int) SELECT 1", "CREATE TABLE `a` (`x` int) TABLE mysql.user",
		"CREATE TABLE `a` (`x` int) IGNORE TABLE mysql.user", "CREATE TABLE `a` (`x` int) REPLACE AS VALUES ROW(1)", "CREATE TABLE `a` (SELECT * FROM mysql.user)",
		"CREATE TABLE `a` (TABLE mysql.user)", "CREATE TABLE `a` ((SELECT 1))", "CREATE TABLE `a` (WITH x AS (TABLE mysql.user) TABLE x)", "CREATE TABLE `a` (VALUES ROW(1))",
		"CREATE TABLE `a` LIKE mysql.user", "CREATE TABLE `a` (LIKE mysql.user)", "CREATE TABLE `a` AS TABLE mysql.user", "CREATE TABLE `a` (`x` int) /*!40000 AS TABLE mysql.user */",
		"CREATE TABLE `a` (`x` int) ENGINE=InnoDB WITH x AS (SELECT 1) SELECT 1", "CREATE TABLE `a` (`x` int) PARTITION BY HASH(`x`) AS TABLE mysql.user", "CREATE TABLE `a` (`x` int) PARTITION BY HASH((SELECT 1))",
		// Tables whose rows are somewhere else.
		"CREATE TABLE `a` (`x` int) ENGINE=FEDERATED CONNECTION='mysql://x'", "CREATE TABLE `a` (`x` int) ENGINE/**/=/**/FEDERATED", "CREATE TABLE `a` (`x` int) ENGINE 'FEDERATED'",
		"CREATE TABLE `a` (`x` int) ENGINE=CONNECT TABLE_TYPE=CSV FILE_NAME='/etc/passwd'", "CREATE TABLE `a` (`x` int) TYPE=SPIDER", "CREATE TABLE `a` (`x` int) ENGINE=MRG_MyISAM UNION=(mysql.user)", "CREATE TABLE `a` (`x` int) ENGINE=`S3`",
		"CREATE TABLE `a` (`x` int) ENGINE=MyISAM UNION=(mysql.user)", "CREATE TABLE `a` (`x` int) /*!40000 ENGINE=FEDERATED */", "CREATE TABLE `a` (`x` int) DATA DIRECTORY='/srv/htdocs'", "CREATE TABLE `a` (`x` int) INDEX/**/DIRECTORY='/srv/htdocs'",
		"CREATE TABLE `a` (`x` int) PARTITION BY HASH(`x`) (PARTITION p DATA DIRECTORY='/srv')", "CREATE TABLE `a` (`x` int) PARTITION BY LIST(`x`) (PARTITION p VALUES IN (1) ENGINE=SPIDER)", "CREATE TABLE `a` (`x` int) TABLESPACE=`shared`",
		"CREATE TABLE `mysql`.`a` (`x` int)", "CREATE TABLE `a`.`b` (`x` int)", "CREATE TEMPORARY TABLE `a` (`x` int)", "CREATE TABLE IF NOT EXISTS `a` (`x` int)",
		"CREATE SEQUENCE `a` ENGINE=SPIDER", "CREATE SEQUENCE `mysql`.`a` start with 1", "DO SETVAL(`a`, 1, 0), SLEEP(9)", "DO SETVAL(`a`, (SELECT 1))", "DO SLEEP(9)", "DO SETVAL(`b`.`a`, 1)",
	} {
		_, _, err := checkSchema(bad, mariadb1011)
		assert.ErrorIs(t, err, database.ErrForeignSQL, bad)
	}
	const literal, ansi = "SET SESSION sql_mode = 'NO_BACKSLASH_ESCAPES';", "SET SESSION sql_mode = 'ANSI';"
	for _, good := range []string{literal + `CREATE PROCEDURE p() SET @x = 'c:\';CREATE VIEW v AS SELECT '\';`, ansi + `CREATE PROCEDURE "p;\"() SET @x = ';';CREATE VIEW "v" AS SELECT 'it\'s';`} {
		n := 0
		require.NoError(t, eachObject(good, mariadb1011, func(_, _ string) error { n++; return nil }), good)
		assert.Equal(t, 3, n, good)
		assert.Equal(t, []string{"PROCEDURE", "VIEW"}, kindsOf(t, good))
	}
	for _, bad := range []string{"DROP DATABASE x", "CREATE USER x", "INSERT INTO a VALUES (1)", "SET SESSION sql_mode = 'ansi_quotes'", literal + `CREATE VIEW v AS SELECT '\';DROP DATABASE x;-- '`, ansi + `CREATE VIEW "v\" AS SELECT 1;DROP DATABASE x;-- "`} {
		assert.ErrorIs(t, eachObject(bad, mariadb1011, func(_, _ string) error { return nil }), database.ErrForeignSQL, bad)
	}
}

func kindsOf(t *testing.T, text string) []string {
	t.Helper()
	kinds, err := kindsIn(text, mariadb1011)
	require.NoError(t, err)
	return kinds
}

// admitted runs a text past the gate, and gives what would be run.
func admitted(t *testing.T, text, from string) (run []string, g *dumpGate, err error) {
	t.Helper()
	g = newDumpGate(mariadb1011, "museum", from)
	err = g.each(strings.NewReader(text), func(stmt string) error {
		more, err := g.admit(stmt)
		if g.restart {
			run, g.restart = nil, false
		}
		run = append(run, more...)
		return err
	})
	return run, g, err
}

func TestADumpReachesNothingButTheStage(t *testing.T) {
	for _, evil := range []string{
		"GRANT ALL ON *.* TO x", "REVOKE ALL ON *.* FROM x", "CREATE USER x", "ALTER USER x IDENTIFIED BY 'y'", "DROP USER x", "SET PASSWORD = 'x'", "SET ROLE x", "RENAME USER a TO b",
		"SET GLOBAL general_log_file = '/srv/htdocs/x.php'", "SET @@GLOBAL.general_log = 1", "SET PERSIST max_connections = 1", "SET @a = 1, GLOBAL event_scheduler = ON", "SET NAMES gbk", "SET NAMES 'sjis'",
		"SET character_set_client = big5", "SET init_connect = 'x'", "SET time_zone = (SELECT 1)", "INSTALL PLUGIN x SONAME 'x.so'", "INSTALL SONAME 'x'", "UNINSTALL PLUGIN x", "LOAD DATA INFILE '/etc/passwd' INTO TABLE t",
		"SELECT 1", "SELECT * FROM live.t INTO OUTFILE '/tmp/x'", "CALL p()", "DO SLEEP(9)", "DELETE FROM museum.pages", "DELETE FROM pages", "UPDATE museum.pages SET a = 1", "RENAME TABLE museum.pages TO museum.gone", "HANDLER t OPEN", "PREPARE s FROM 'DROP DATABASE museum'",
		"EXECUTE s", "EXECUTE IMMEDIATE 'DROP DATABASE museum'", "XA START 'x'", "KILL 1", "SHUTDOWN", "PURGE BINARY LOGS TO 'x'", "RESET MASTER", "ANALYZE TABLE t", "OPTIMIZE TABLE t", "CREATE SERVER s FOREIGN DATA WRAPPER mysql OPTIONS (HOST 'x')",
		"CREATE ROLE r", "CREATE TABLESPACE s ADD DATAFILE 'x'", "CREATE TEMPORARY TABLE t (a INT)", "CREATE TABLE t AS SELECT * FROM museum.users", "CREATE TABLE t LIKE museum.users", "CREATE TABLE t (a INT) TABLE mysql.user",
		"CREATE TABLE t (a INT) ENGINE/**/=/**/FEDERATED CONNECTION='x'", "CREATE FUNCTION f RETURNS STRING SONAME 'x.so'", "CREATE DEFINER=root@localhost FUNCTION f RETURNS INTEGER SONAME 'x.so'", "CREATE PACKAGE p AS END",
		"INSERT INTO t SELECT * FROM museum.users", "INSERT INTO t VALUES ((SELECT 1))", "INSERT INTO t VALUES (1) ON DUPLICATE KEY UPDATE a = 1", "INSERT INTO t VALUES (LOAD_FILE('/etc/passwd'))", "INSERT INTO t SET a = SLEEP(9)",
		"INSERT INTO t VALUES (1) RETURNING a", "INSERT INTO t VALUES (@@hostname)", "INSERT INTO t VALUES (1), (/*!50000 (SELECT 1) */)", "INSERT INTO t TABLE mysql.user", "INSERT INTO t (a) VALUES (_gbk'x')", "REPLACE INTO t VALUES ('a' 'b')", "INSERT INTO t VALUES (a)", "INSERT INTO t VALUES (1 + 1)",
		"ALTER TABLE t RENAME TO museum.pages", "ALTER TABLE t ENGINE=FEDERATED", "ALTER TABLE t EXCHANGE PARTITION p WITH TABLE museum.pages", "ALTER TABLE t DISCARD TABLESPACE", "ALTER TABLE t ADD a INT, RENAME TO museum.x", "ALTER TABLE t ADD PARTITION (PARTITION p DATA DIRECTORY '/srv')",
		"ALTER TABLE t ADD COLUMN a INT DEFAULT (SELECT 1)", "ALTER EVENT e ENABLE", "ALTER VIEW v AS SELECT 1", "DROP SERVER s", "DROP ROLE r", "DROP PREPARE s", "TRUNCATE TABLE t, u", "UNLOAD", "BINLOG 'x'", "USE a.b",
	} {
		for _, form := range []string{"%", "/* x */ %", "-- x\r\n%", "# x\n%", "/*!40000 % */", "/*!50001 /* x */ % */", "/*M!100000 % */"} {
			text := "CREATE TABLE t (a INT);\r\n" + strings.Replace(form, "%", evil, 1) + ";\n"
			if strings.Contains(form, "!") && strings.Contains(evil, "/*") {
				continue
			}
			run, _, err := admitted(t, text, "")
			require.ErrorIs(t, err, database.ErrForeignSQL, text)
			assert.Len(t, run, 1, text)
		}
	}
}

func TestWhatDumpsHoldPasses(t *testing.T) {
	text := strings.ReplaceAll("/*M!999999\\- enable the sandbox mode */ \n-- Host: x\n/*!40101 SET @OLD_CHARACTER_SET_CLIENT=@@CHARACTER_SET_CLIENT */;\n/*!40101 SET NAMES utf8mb4 */;\n"+
		"/*!40103 SET TIME_ZONE='+00:00' */;\n/*!40101 SET @OLD_SQL_MODE=@@SQL_MODE, SQL_MODE='NO_AUTO_VALUE_ON_ZERO' */;\n/*M!100616 SET @OLD_NOTE_VERBOSITY=@@NOTE_VERBOSITY, NOTE_VERBOSITY=0 */;\n"+
		"CREATE DATABASE /*!32312 IF NOT EXISTS*/ `museum` /*!40100 DEFAULT CHARACTER SET latin1 */;\nUSE `museum`;\n/*!40000 DROP DATABASE IF EXISTS `museum`*/;\n"+
		"DROP TABLE IF EXISTS `log`;\n/*!40101 SET @saved_cs_client     = @@character_set_client */;\n/*!40101 SET character_set_client = utf8 */;\nCREATE TABLE `log` (\n  `id` int(11)\n) ENGINE=InnoDB;\n/*!40101 SET character_set_client = @saved_cs_client */;\n"+
		"LOCK TABLES `log` WRITE;\n/*!40000 ALTER TABLE `log` DISABLE KEYS */;\nset autocommit=0;\nINSERT INTO `log` VALUES\n(1,'it\\'s'),\n(-2.5e-3,_binary 'x',0x0A,NULL,X'00',b'1',\"q\");\nREPLACE  IGNORE INTO `museum`.`log` (`a`, b) VALUES (.5,DEFAULT) ;\n/*!40000 ALTER TABLE `log` ENABLE KEYS */;\nUNLOCK TABLES;\ncommit;\n"+
		"/*!50001 CREATE VIEW `v` AS SELECT\n 1 AS `a`*/;\n/*!50001 DROP VIEW IF EXISTS `v`*/;\n/*!50001 CREATE ALGORITHM=UNDEFINED */\n/*!50013 DEFINER=`k``p`@`%` SQL SECURITY DEFINER */\n/*!50001 VIEW `v` AS select `id` from `log` */;\n"+
		"/*!50003 SET @saved_sql_mode = @@sql_mode */ ;\n/*!50003 SET sql_mode = 'ANSI_QUOTES,NO_BACKSLASH_ESCAPES' */ ;\nDELIMITER ;;\n/*!50003 CREATE*/ /*!50017 DEFINER=`root`@`localhost`*/ /*!50003 TRIGGER `lit` BEFORE INSERT ON `log` FOR EACH ROW BEGIN SET NEW.\"a\\\"= 'c:\\'; END */;;\nDELIMITER ;\n"+
		"/*!50003 SET sql_mode = @saved_sql_mode */ ;\n/*!50106 SET @save_time_zone= @@TIME_ZONE */ ;\n/*!50003 SET time_zone = 'Europe/Amsterdam' */ ;\n"+
		"/*!50106 CREATE*/ /*!50117 DEFINER=`root`@`localhost`*/ /*!50106 EVENT `e` ON SCHEDULE EVERY 1 DAY DO DELETE FROM log */;\n/*!50106 SET TIME_ZONE= @save_time_zone */ ;\n"+
		"ALTER TABLE `log` ADD PRIMARY KEY (`id`), ADD KEY `k` (`id`);\nALTER TABLE `log` MODIFY `id` int NOT NULL AUTO_INCREMENT, AUTO_INCREMENT=42;\nCREATE UNIQUE INDEX i ON log (id);\nSET @@GLOBAL.GTID_PURGED=/*!80000 '+'*/ 'x:1';\nTRUNCATE TABLE `log`;\nDO SETVAL(`s`, 1, 0);\n/*!40101 SET CHARACTER_SET_CLIENT=@OLD_CHARACTER_SET_CLIENT */;\n", "\n", "\r\n")
	run, g, err := admitted(t, text, "")
	require.NoError(t, err)
	_, _, err = admitted(t, text[:strings.LastIndex(text, "/*!40101")], "")
	require.ErrorContains(t, err, "the text is cut")
	for i := range run {
		run[i] = strings.Join(strings.Fields(run[i]), " ")
	}
	assert.Equal(t, []string{"SET NAMES utf8mb4", "SET SESSION time_zone = '+00:00'", "DROP TABLE IF EXISTS `log`", "SET NAMES utf8", "CREATE TABLE `log` ( `id` int(11) ) ENGINE=InnoDB", "SET NAMES utf8mb4",
		"ALTER TABLE `log` DISABLE KEYS", "INSERT INTO `log` VALUES (1,'it\\'s'), (-2.5e-3,_binary 'x',0x0A,NULL,X'00',b'1',\"q\")", "REPLACE IGNORE INTO `log` (`a`, b) VALUES (.5,DEFAULT)", "ALTER TABLE `log` ENABLE KEYS",
		"SET SESSION time_zone = 'Europe/Amsterdam'", "SET SESSION time_zone = '+00:00'", "ALTER TABLE `log` ADD PRIMARY KEY (`id`), ADD KEY `k` (`id`)", "ALTER TABLE `log` MODIFY `id` int NOT NULL AUTO_INCREMENT, AUTO_INCREMENT=42", "CREATE UNIQUE INDEX i ON log (id)", "TRUNCATE TABLE `log`", "DO SETVAL(`s`, 1, 0)", "SET NAMES utf8mb4"}, run)
	var held []string
	for _, o := range append(g.inOrder(), g.events()...) {
		held = append(held, strings.Join(strings.Fields(o.sqlMode+" "+o.zone+": "+o.create), " "))
	}
	assert.Equal(t, []string{"NO_AUTO_VALUE_ON_ZERO +00:00: CREATE ALGORITHM=UNDEFINED SQL SECURITY DEFINER VIEW `v` AS select `id` from `log`",
		"ANSI_QUOTES,NO_BACKSLASH_ESCAPES +00:00: CREATE TRIGGER `lit` BEFORE INSERT ON `log` FOR EACH ROW BEGIN SET NEW.\"a\\\"= 'c:\\'; END", "NO_AUTO_VALUE_ON_ZERO Europe/Amsterdam: CREATE EVENT `e` ON SCHEDULE EVERY 1 DAY DO DELETE FROM log"}, held)
}

func TestOfSeveralDatabasesOneIsTaken(t *testing.T) {
	two := "USE shop; CREATE TABLE a (x INT); INSERT INTO a VALUES (1); CREATE VIEW v AS SELECT 1; USE %; CREATE TABLE b (x INT); INSERT INTO shop.a VALUES (2); USE mysql; CREATE TABLE user (x INT); USE club; CREATE TABLE c (x INT);"
	run, g, err := admitted(t, strings.Replace(two, "%", "museum", 1), "")
	require.NoError(t, err)
	assert.Equal(t, []string{"CREATE TABLE b (x INT)"}, run, "the one that is called as the live one")
	assert.Empty(t, g.objects)
	_, _, err = admitted(t, strings.Replace(two, "%", "blog", 1), "")
	require.ErrorContains(t, err, "several databases, and none is called museum: shop, blog, club")
	run, _, err = admitted(t, strings.Replace(two, "%", "museum", 1), "shop")
	require.NoError(t, err)
	assert.Equal(t, []string{"CREATE TABLE a (x INT)", "INSERT INTO `a` VALUES (1)", "INSERT INTO `a` VALUES (2)"}, run)
	_, _, err = admitted(t, strings.Replace(two, "%", "museum", 1), "pier")
	require.ErrorContains(t, err, "no database pier, but: shop")
	run, _, err = admitted(t, "CREATE TABLE a (x INT)", "")
	require.NoError(t, err)
	assert.Len(t, run, 1, "one without a name")
	run, _, err = admitted(t, "USE shop; CREATE TABLE a (x INT); INSERT INTO shop.a VALUES (1)", "")
	require.NoError(t, err)
	assert.Len(t, run, 2, "the only one, whatever it is called")
}

// FuzzDumpGate: what passes has no comment and no name of another database, and holds
// none of the words that begin what must not run.
func FuzzDumpGate(f *testing.F) {
	f.Add("CREATE TABLE t (a INT) ENGINE=InnoDB")
	f.Add("INSERT INTO museum.t VALUES (1,'x')")
	f.Add("/*!40000 ALTER TABLE `t` DISABLE KEYS */")
	f.Fuzz(func(t *testing.T, stmt string) {
		g := newDumpGate(mariadb1011, "museum", "")
		run, err := g.admit(stmt)
		if err != nil {
			return
		}
		for _, q := range run {
			for token := range sqltext.Tokens(q, sqltext.MySQL) {
				if token.Kind == sqltext.Versioned || token.Is("SELECT") || token.Is("OUTFILE") || token.Is("GRANT") || token.Is("SONAME") {
					t.Fatalf("let %q through as %q", stmt, q)
				}
			}
		}
	})
}

// Where tables stand beside the live ones, each has another name, and its foreign keys
// come later: nothing of a dump means a live table.
func TestADumpIsStagedUnderOtherNames(t *testing.T) {
	run, g, err := admittedAs(t, "CREATE TABLE IF NOT EXISTS `parent` (`id` int, `note` text DEFAULT 'REFERENCES x(y)');\n"+
		"DROP TABLE IF EXISTS parent, child;\nCREATE TABLE child (FOREIGN KEY (p) REFERENCES parent (id), id int, CONSTRAINT `c``k` CHECK (`id` > 0), CONSTRAINT `own` FOREIGN KEY `i` (`p`, `q`) REFERENCES `parent` (`id`, `x`) ON DELETE SET NULL ON UPDATE NO ACTION, KEY `p` (`p`(10))) ENGINE=InnoDB;\n"+
		"INSERT INTO `child` VALUES (1);\nALTER TABLE `child` ADD PRIMARY KEY (`id`), ADD CONSTRAINT `late` FOREIGN KEY (`p`) REFERENCES `parent` (`id`), MODIFY `id` int AUTO_INCREMENT;\n"+
		"ALTER TABLE `child` ADD FOREIGN KEY (`p`) REFERENCES `parent` (`id`);\nALTER TABLE `child` DISABLE KEYS;\nCREATE INDEX i ON child (p);\nDO SETVAL(`numbers`, 5, 0);\nTRUNCATE child;\nDROP SEQUENCE `numbers`;\n", "kept")
	require.NoError(t, err)
	assert.Equal(t, []string{
		"CREATE TABLE IF NOT EXISTS `new parent` (`id` int, `note` text DEFAULT 'REFERENCES x(y)')",
		"DROP TABLE IF EXISTS `new parent`", "DROP TABLE IF EXISTS `new child`",
		"CREATE TABLE `new child` ( id int, CONSTRAINT `c``k` CHECK (`id` > 0), KEY `p` (`p`(10))) ENGINE=InnoDB",
		"INSERT INTO `new child` VALUES (1)", "ALTER TABLE `new child` ADD PRIMARY KEY (`id`), MODIFY `id` int AUTO_INCREMENT",
		"ALTER TABLE `new child` DISABLE KEYS", "CREATE INDEX i ON `new child` (p)", "DO SETVAL(`new numbers`, 5, 0)", "TRUNCATE `new child`", "DROP TABLE IF EXISTS `new numbers`",
	}, run)
	assert.Equal(t, []database.ForeignKey{
		{Table: "child", Name: "child_ibfk_1", Definition: "FOREIGN KEY (p) REFERENCES parent (id)"},
		{Table: "child", Name: "own", Definition: "FOREIGN KEY (`p`, `q`) REFERENCES `parent` (`id`, `x`) ON DELETE SET NULL ON UPDATE NO ACTION"},
		{Table: "child", Name: "late", Definition: "FOREIGN KEY (`p`) REFERENCES `parent` (`id`)"},
		{Table: "child", Name: "child_ibfk_4", Definition: "FOREIGN KEY (`p`) REFERENCES `parent` (`id`)"},
	}, g.keys)
	for _, bad := range []string{
		"CREATE TABLE c (id int, p int REFERENCES parent (id))", "CREATE TABLE c (id int, FOREIGN KEY (p) REFERENCES mysql.user (User))",
		"CREATE TABLE c (id int, FOREIGN KEY (p) REFERENCES parent (id) ON DELETE SLEEP)", "CREATE TABLE c (id int, FOREIGN KEY ((SELECT 1)) REFERENCES parent (id))",
		"ALTER TABLE c ADD FOREIGN KEY (p) REFERENCES parent (id) NOT VALID", "ALTER TABLE c ADD p int REFERENCES parent (id)",
	} {
		_, _, err := admittedAs(t, bad+";\n", "kept")
		assert.ErrorIs(t, err, database.ErrForeignSQL, bad)
	}
	// For a share, the other tables are passed over.
	run, _, err = admittedAs(t, "CREATE TABLE other (a int);\nINSERT INTO other VALUES (1);\nALTER TABLE other ADD KEY (a);\nDROP TABLE other, child;\nCREATE TABLE child (a int);\n", "child")
	require.NoError(t, err)
	assert.Equal(t, []string{"DROP TABLE IF EXISTS `new child`", "CREATE TABLE `new child` (a int)"}, run)
}

// admittedAs is as admitted, with tables staged under other names: all, or one only.
func admittedAs(t *testing.T, text, only string) (run []string, g *dumpGate, err error) {
	t.Helper()
	statements, err := sqltext.All(strings.NewReader(text), sqltext.MySQL)
	require.NoError(t, err)
	g = newDumpGate(mariadb1011, "museum", "")
	g.place = func(table string, _ use) (string, bool) { return "new " + table, only == "kept" || only == table }
	for _, stmt := range statements {
		more, err := g.admit(stmt)
		if err != nil {
			return run, g, err
		}
		run = append(run, more...)
	}
	return run, g, g.settled()
}

func TestTheTablesOfADumpAreNamed(t *testing.T) {
	text := "/*!50001 CREATE TABLE v (a INT) */;\nCREATE TABLE `odd``name` (a INT);\nINSERT INTO `odd``name` VALUES ('CREATE TABLE x (a INT);');\n/*!50001 DROP TABLE IF EXISTS v */;\nCREATE TABLE b (a INT);\n"
	tables, err := DumpTables(strings.NewReader(text), "museum", "")
	require.NoError(t, err)
	assert.Equal(t, []string{"odd`name", "b"}, tables)
	tables, err = DumpTables(strings.NewReader("USE pier;\nCREATE TABLE boats (a INT);\nUSE museum;\n"+text), "museum", "")
	require.NoError(t, err)
	assert.Equal(t, []string{"odd`name", "b"}, tables, "of the database that is called as the live one")
	_, err = DumpTables(strings.NewReader("CREATE TABLE b (a INT);\nDROP USER x;\n"), "museum", "")
	assert.ErrorIs(t, err, database.ErrForeignSQL)
}

// FuzzSchemaAndObjects: what parts of archives may have run begins as it should, and is
// for the server what it was for the gate: nothing versioned is left in it.
func FuzzSchemaAndObjects(f *testing.F) {
	f.Add("CREATE TABLE `t` (`a` int DEFAULT '1', KEY `k` (`a`)) ENGINE=InnoDB COMMENT='x'")
	f.Add("CREATE SEQUENCE `s` start with 1 minvalue 1 maxvalue 9 increment by 1")
	f.Add("/*!50003 CREATE TRIGGER `x` BEFORE INSERT ON `t` FOR EACH ROW SET NEW.a = 1 */")
	f.Add("SET SESSION sql_mode='NO_ENGINE_SUBSTITUTION'")
	f.Fuzz(func(t *testing.T, stmt string) {
		_, schema, err := checkSchema(stmt, mariadb1011)
		if err != nil {
			schema = ""
		}
		_, object, err := checkObject(stmt, mariadb1011)
		if err != nil {
			object = ""
		}
		for _, run := range []string{schema, object} {
			first := true
			for _, token := range sqltext.Significant(run, sqltext.MySQL) {
				if first && !token.Is("SET") && !token.Is("CREATE") && !(token.Is("DO") && run == schema) || token.Kind == sqltext.Versioned || token.Is("DATA") && run == schema {
					t.Fatalf("let %q through as %q", stmt, run)
				}
				first = false
			}
		}
	})
}

func TestTheGatesTakeLinearTime(t *testing.T) {
	sqltexttest.Linear(t, func(text string) {
		_, _ = newDumpGate(mariadb1011, "museum", "").admit(text)
		_, _, _ = checkSchema(text, mariadb1011)
		_, _, _ = checkObject(text, mariadb1011)
		_, _ = checkInsert([]byte(text), "t")
		_ = eachObject(text, mariadb1011, func(_, _ string) error { return nil })
	})
}
