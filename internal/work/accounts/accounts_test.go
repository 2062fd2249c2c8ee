package accounts

import (
	"context"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/database"
	"revlet/internal/platform/reason"
	"revlet/internal/site"
	"revlet/internal/work/compare"
)

// place is a WordPress with these tables: a text of rows each.
func place(t *testing.T, rows map[string]string) *Place {
	recipe, err := site.RecipeNamed("wordpress")
	require.NoError(t, err)
	p := &Place{Recipe: recipe, Database: "main", Engine: "mysql", Prefix: "kp_"}
	for table := range rows {
		p.Tables = append(p.Tables, table)
	}
	p.Rows = func(_ context.Context, name compare.TableName, w io.Writer) error {
		_, err := io.WriteString(w, rows[name.Table])
		return err
	}
	return p
}

func insert(table, columns string, rows ...string) string {
	return "INSERT INTO `" + table + "` (`" + strings.ReplaceAll(columns, ",", "`, `") + "`) VALUES\n" + strings.Join(rows, ",\n") + ";\n"
}

func network(t *testing.T) *Place {
	return place(t, map[string]string{
		"kp_users": insert("kp_users", "ID,user_login,user_pass,user_email", `(1,'keeper','x','keeper@kestrelpoint.example')`, `(2,'reader','x','reader@kestrelpoint.example')`,
			`(3,'children','x',NULL)`, `(4,'eve','x','Reader@kestrelpoint.example')`, `(5,'2','x','')`, `(6,'','x','')`),
		"kp_usermeta": insert("kp_usermeta", "umeta_id,user_id,meta_key,meta_value", `(1,1,'kp_capabilities','a:1:{s:13:"administrator";b:1;}')`,
			`(2,2,'kp_capabilities','a:1:{s:10:"subscriber";b:1;}')`, `(3,3,'kp_2_capabilities','a:1:{s:13:"administrator";b:1;}')`, `(4,5,'xx_capabilities','a:1:{s:13:"administrator";b:1;}')`),
		"kp_sitemeta": insert("kp_sitemeta", "meta_id,meta_key,meta_value", `(1,'site_admins','a:2:{i:0;s:6:"keeper";i:1;s:3:"eve";}')`),
		"kp_2_posts":  "", "kp_posts": "", "kp_2_options": "",
	})
}

func TestAdministratorsOfANetworkAreFound(t *testing.T) {
	list, err := List(t.Context(), network(t), func(one Account) bool { return one.Administrator })
	require.NoError(t, err)
	var names []string
	for _, one := range list {
		names = append(names, one.Name)
	}
	assert.Equal(t, []string{"children", "eve", "keeper"}, names, "of one of its sites, of the whole network, and of the first site")
	all, err := List(t.Context(), network(t), func(Account) bool { return true })
	require.NoError(t, err)
	assert.Len(t, all, 5, "without a name nobody logs in")
	assert.Equal(t, "children", all[0].Name, "administrators come first")
}

func TestWhichAccountIsMeant(t *testing.T) {
	all, err := List(t.Context(), network(t), func(Account) bool { return true })
	require.NoError(t, err)
	for typed, key := range map[string]string{"keeper": "1", "KEEPER": "1", "keeper@kestrelpoint.example": "1", "3": "3", "2": "5", "1": "1"} {
		one, err := Find(all, "kestrelpoint", typed)
		require.NoError(t, err, typed)
		assert.Equal(t, key, one.Key, "%s: a name counts before a number", typed)
		assert.True(t, Means(one, typed))
	}
	_, err = Find(all, "kestrelpoint", "reader@kestrelpoint.example")
	assert.ErrorContains(t, err, "4 (eve), 2 (reader)", "two accounts with that address")
	registered := append(all, Account{Key: "9", Name: "Keeper@kestrelpoint.example"})
	_, err = Find(registered, "kestrelpoint", "keeper@kestrelpoint.example")
	assert.ErrorContains(t, err, "1 (keeper), 9", "somebody has registered under the keeper's address")
	_, err = Find(all, "kestrelpoint", "keep")
	assert.True(t, reason.Is(err, reason.NoSuchAccount))
	_, err = Find(all, "kestrelpoint", "")
	assert.True(t, reason.Is(err, reason.NoSuchAccount), "no mail address is not an address")
}

func TestTheEditsOfAnAccount(t *testing.T) {
	p := network(t)
	one := Account{Key: "1", Name: "keeper", rows: 1}
	assert.Equal(t, []database.Edit{
		{Table: "kp_users", Where: map[string]string{"ID": "1"}, Set: map[string]string{"user_pass": "hash"}, Exactly: 1},
		{Table: "kp_usermeta", Where: map[string]string{"user_id": "1", "meta_key": "session_tokens"}},
	}, Reset(p, one, "user_pass", "hash"))
	p.Tables = []string{"kp_users"}
	assert.Len(t, Reset(p, one, "user_pass", "hash"), 1, "a table that is not there is left out")
}

func TestWhereNoAccountsAreKnown(t *testing.T) {
	for why, p := range map[string]*Place{"not known": {}, "no table kp_users": place(t, map[string]string{"kp_posts": ""})} {
		_, err := List(t.Context(), p, func(Account) bool { return true })
		assert.True(t, reason.Is(err, reason.NoAccounts), why)
		assert.ErrorContains(t, err, why)
	}
}
