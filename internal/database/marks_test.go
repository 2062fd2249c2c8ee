package database

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A server vouches only as long as nothing says that it is another one, or tells other times.
func TestWhatAServerVouchesFor(t *testing.T) {
	before := Marks{Server: "one", Taken: 1_000, Began: 100, Counted: 200, Altered: 7, Ahead: 5_000, Boot: "first"}
	for name, c := range map[string]struct {
		change func(m *Marks)
		want   bool
	}{
		"it runs on":                         {func(m *Marks) {}, true},
		"times are cut":                      {func(m *Marks) { m.Began, m.Counted = 101, 199 }, true},
		"another server":                     {func(m *Marks) { m.Server = "two" }, false},
		"it has begun anew":                  {func(m *Marks) { m.Began = 1_500 }, false},
		"its clock was put back":             {func(m *Marks) { m.Ahead = 3_999 }, false},
		"its clock was put on":               {func(m *Marks) { m.Ahead = 6_001 }, false},
		"its clock strays":                   {func(m *Marks) { m.Ahead = 4_001 }, true},
		"an hour less, as people set clocks": {func(m *Marks) { m.Ahead = 5_000 - 3_600_000 }, false},
		"this machine has begun anew":        {func(m *Marks) { m.Boot = "second" }, false},
		"nothing is known of this machine":   {func(m *Marks) { m.Boot = "" }, false},
		"it counts anew":                     {func(m *Marks) { m.Counted = 1_500 }, false},
		"a table was altered":                {func(m *Marks) { m.Altered = 8 }, false},
		"time runs backwards":                {func(m *Marks) { m.Taken = 999 }, false},
	} {
		now := Marks{Server: "one", Taken: 2_000, Began: 100, Counted: 200, Altered: 7, Ahead: 5_000, Boot: "first"}
		c.change(&now)
		assert.Equal(t, c.want, now.Continues(&before, 1), name)
	}
	for name, c := range map[string]struct {
		before, now Mark
		want        bool
	}{
		"nothing changed":                 {Mark{Made: 10, Changed: 900}, Mark{Made: 10, Changed: 900}, true},
		"a row changed":                   {Mark{Made: 10, Changed: 900}, Mark{Made: 10, Changed: 1_100}, false},
		"it was made anew":                {Mark{Made: 10, Changed: 900}, Mark{Made: 11, Changed: 900}, false},
		"the server has forgotten":        {Mark{Made: 10, Changed: 900}, Mark{}, false},
		"it was never vouched for":        {Mark{}, Mark{}, false},
		"it had changed just before":      {Mark{Made: 10, Changed: 997}, Mark{Made: 10, Changed: 997}, false},
		"it had been made just before":    {Mark{Made: 997, Changed: 900}, Mark{Made: 997, Changed: 900}, false},
		"it had changed a while before":   {Mark{Made: 10, Changed: 996}, Mark{Made: 10, Changed: 996}, true},
		"an earlier change, clock or not": {Mark{Made: 10, Changed: 900}, Mark{Made: 10, Changed: 899}, false},
	} {
		assert.Equal(t, c.want, c.now.Same(c.before, before.Taken-3), name)
	}
}
