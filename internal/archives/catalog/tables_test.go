package catalog

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"revlet/internal/archives/archive"
	"revlet/internal/platform/reason"
)

// A table is found as a person names it, and where that may be two, neither is taken.
func TestFindTable(t *testing.T) {
	one := &Held{Record: &archive.Record{Name: "kp-1", Origin: archive.Origin{Databases: map[string]archive.DBOrigin{"main": {Prefix: "kp_"}}}}}
	for _, table := range []string{"kp_posts", "kp_users", "users", "a.b", "kp_main.x"} {
		one.Parts = append(one.Parts, archive.Part{Kind: archive.KindRows, Database: "main", Table: table}, archive.Part{Kind: archive.KindRows, Database: "main", Table: table, Slice: 2})
	}
	two := &Held{Record: &archive.Record{Name: "kp-2", Origin: archive.Origin{Databases: map[string]archive.DBOrigin{"main": {Prefix: "kp_"}, "shop": {}}}}}
	two.Parts = append(two.Parts, one.Parts...)
	two.Parts = append(two.Parts, archive.Part{Kind: archive.KindRows, Database: "shop", Table: "posts"}, archive.Part{Kind: archive.KindRows, Database: "shop", Table: "orders"})
	for _, c := range []struct {
		in          *Held
		typed, want string
		why         reason.Reason
	}{
		{one, "kp_posts", "main/kp_posts", ""},
		{one, "posts", "main/kp_posts", ""},
		{one, "main.posts", "main/kp_posts", ""},
		{one, "users", "main/users", ""}, // as it is called comes first
		{one, "kp_users", "main/kp_users", ""},
		{one, "a.b", "main/a.b", ""},
		{one, "main.x", "main/kp_main.x", ""},
		{one, "comments", "", reason.TableNotHeld},
		{one, "shop.orders", "", reason.TableNotHeld},
		{two, "orders", "shop/orders", ""},
		{two, "posts", "", reason.Usage},
		{two, "shop.posts", "shop/posts", ""},
		{two, "main.posts", "main/kp_posts", ""},
		{two, "shop.users", "", reason.TableNotHeld},
		{&Held{Record: &archive.Record{}}, "posts", "", reason.TableNotHeld},
	} {
		label, table, err := c.in.FindTable(c.in.Tables(), c.typed)
		if c.why != "" {
			assert.True(t, reason.Is(err, c.why), "%s: %v", c.typed, err)
			continue
		}
		assert.NoError(t, err, c.typed)
		assert.Equal(t, c.want, label+"/"+table, c.typed)
	}
	_, _, err := one.FindTable(one.Tables(), "comments")
	assert.ErrorContains(t, err, "it has a.b, kp_main.x, kp_posts, kp_users, users")
}
