package report

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is otherwise than in the last report is told by site, also after what was remembered has been written and read.
func TestSince(t *testing.T) {
	page := func(sites ...Site) Page { return Page{Made: time.Unix(1_764_000_000, 0).UTC(), Sites: sites} }
	site := func(name string, archives, alarms []string) Site {
		s := Site{Name: name}
		for _, a := range archives {
			s.Archives = append(s.Archives, Archive{Name: a, StoredBytes: 10, Stores: []string{"here"}})
		}
		if len(archives) > 0 {
			s.Newest, s.NewestFull = &s.Archives[0], &s.Archives[0]
		}
		for _, a := range alarms {
			s.Alarms = append(s.Alarms, Alarm{Kind: a})
		}
		return s
	}
	before := page(site("a", []string{"a1", "a2"}, nil), site("b", []string{"b1"}, []string{"overdue", "overdue"}), site("c", nil, nil), site("d", []string{"d1"}, nil))
	data, err := json.Marshal(before.Summary())
	require.NoError(t, err)
	var last Summary
	require.NoError(t, json.Unmarshal(data, &last))
	now := page(site("a", []string{"a3", "a2"}, []string{"damage"}), site("b", []string{"b1"}, nil), site("d", nil, nil), site("e", []string{"e1"}, nil))
	assert.Equal(t, &Changes{Last: before.Made, New: 1, Gone: 2, Worse: []string{"a: damage", "d: no archive any more"}, Better: []string{"b: no more overdue"},
		Added: []string{"e"}, Dropped: []string{"c"}}, now.Since(last))
	assert.Equal(t, Totals{Good: 2, Look: 1, None: 1, Archives: 4, Bytes: 30}, now.Totals())
	same := now.Since(now.Summary())
	assert.Equal(t, &Changes{Last: now.Made, Worse: []string{}, Better: []string{}, Added: []string{}, Dropped: []string{}}, same)
}
