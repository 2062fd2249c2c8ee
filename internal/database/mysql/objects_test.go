package mysql

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestDefinersAndDatabaseNamesAreTakenOut(t *testing.T) {
	o := object{create: "CREATE ALGORITHM=UNDEFINED DEFINER=`ol``d`@`%` SQL SECURITY DEFINER VIEW `v` AS select `museum`.`t`.`a`, 'museum`.`t`' from `museum`.`t`"}
	assert.Equal(t, "CREATE ALGORITHM=UNDEFINED SQL SECURITY DEFINER VIEW `v` AS select `t`.`a`, 'museum`.`t`' from `t`", withoutDatabase(o.statement(), "museum"))
}

func TestViewsComeAfterWhatTheyRead(t *testing.T) {
	views := []object{{name: "a", create: "CREATE VIEW `a` AS select 1 from `c`"}, {name: "b", create: "CREATE VIEW `b` AS select 1 from `t`"}, {name: "c", create: "CREATE VIEW `c` AS select 1 from `b`"}}
	var names []string
	for _, o := range orderViews(views, "museum") {
		names = append(names, o.name)
	}
	assert.Equal(t, []string{"b", "c", "a"}, names)
}

func TestNeighbours(t *testing.T) {
	db := &Database{c: Config{Prefix: "kp_", OwnTables: []string{"options", "posts", "users"}}}
	var tables []*table
	for _, name := range []string{"kp_options", "kp_posts", "kp_users", "kp_2_posts", "kp_2_options", "stats", "blog_options", "blog_posts", "blog_users", "blog_extra", "kp_b_options", "kp_b_posts", "kp_b_users"} {
		tables = append(tables, &table{name: name})
	}
	mine, views, others := db.neighbours(tables, []string{"kp_recent", "blog_recent", "loose"})
	var names []string
	for _, m := range mine {
		names = append(names, m.name)
	}
	assert.Equal(t, []string{"kp_options", "kp_posts", "kp_users", "kp_2_posts", "kp_2_options", "stats"}, names, "a network's own sites and loose tables belong to it")
	assert.Equal(t, []string{"blog_options", "blog_posts", "blog_users", "blog_extra", "kp_b_options", "kp_b_posts", "kp_b_users"}, others)
	assert.Equal(t, []string{"kp_recent", "loose"}, views)
}

func TestPlainKeysAreSplitOff(t *testing.T) {
	create, late := splitPlainKeys("CREATE TABLE `t` (\n  `id` int(11) NOT NULL AUTO_INCREMENT,\n  `a` text,\n  `n` int(11) COMMENT 'AUTO_INCREMENT',\n  PRIMARY KEY (`n`),\n  UNIQUE KEY `u` (`a`(9)),\n  KEY `auto` (`id`),\n  KEY `x,y` (`a`(10),`n`) COMMENT 'k, k',\n  KEY `n` (`n`)\n) ENGINE=InnoDB")
	assert.Equal(t, "CREATE TABLE `t` (\n  `id` int(11) NOT NULL AUTO_INCREMENT,\n  `a` text,\n  `n` int(11) COMMENT 'AUTO_INCREMENT',\n  PRIMARY KEY (`n`),\n  UNIQUE KEY `u` (`a`(9)),\n  KEY `auto` (`id`)\n) ENGINE=InnoDB", create)
	assert.Equal(t, "ADD KEY `x,y` (`a`(10),`n`) COMMENT 'k, k', ADD KEY `n` (`n`)", late)
	for _, whole := range []string{"CREATE TABLE `t` (\n  `a` int,\n  KEY `a` (`a`),\n  CONSTRAINT `f` FOREIGN KEY (`a`) REFERENCES `p` (`id`)\n)", "CREATE TABLE `t` (\n  `a` text,\n  KEY `a` (`a`(3)),\n  FULLTEXT KEY `f` (`a`)\n)"} {
		create, late = splitPlainKeys(whole)
		assert.Equal(t, whole, create)
		assert.Empty(t, late)
	}
}

func TestForeignKeysAreSplitOff(t *testing.T) {
	create, keys := splitKeys("child", "CREATE TABLE `child` (\n  `id` int(11) NOT NULL,\n  KEY `up` (`id`),\n  CONSTRAINT `a``b` FOREIGN KEY (`id`) REFERENCES `parent` (`id`) ON UPDATE CASCADE,\n  CONSTRAINT `c` FOREIGN KEY (`id`) REFERENCES `parent` (`id`)\n) ENGINE=InnoDB")
	assert.Equal(t, "CREATE TABLE `child` (\n  `id` int(11) NOT NULL,\n  KEY `up` (`id`)\n) ENGINE=InnoDB", create)
	assert.Len(t, keys, 2)
	assert.Equal(t, "a`b", keys[0].Name)
	assert.Equal(t, "FOREIGN KEY (`id`) REFERENCES `parent` (`id`) ON UPDATE CASCADE", keys[0].Definition)
}
