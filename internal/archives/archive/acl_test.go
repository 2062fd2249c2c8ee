package archive

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMapACL(t *testing.T) {
	entry := func(tag, perm, id byte) string { return string([]byte{tag, 0, perm, 0, id, 0, 0, 0}) }
	const version = "\x02\x00\x00\x00"
	head, tail := version+entry(1, 6, 255), entry(4, 4, 255)+entry(8, 4, 40)+entry(0x10, 6, 255)+entry(0x20, 0, 255)
	account := func(id int) (int, bool) { return map[int]int{33: 71, 34: 71, 35: 72}[id], id != 99 }
	group := func(id int) (int, bool) { return id + 1, true }
	mapped := func(s string) string { return string(MapACL([]byte(s), account, group)) }
	after := entry(4, 4, 255) + entry(8, 4, 41) + entry(0x10, 6, 255) + entry(0x20, 0, 255)
	assert.Equal(t, head+entry(2, 6, 71)+entry(2, 4, 72)+after, mapped(head+entry(2, 6, 33)+entry(2, 4, 35)+tail))
	assert.Equal(t, head+entry(2, 6, 71)+after, mapped(head+entry(2, 6, 33)+entry(2, 7, 34)+tail), "one entry for an account")
	assert.Equal(t, head+after, mapped(head+entry(2, 6, 99)+tail), "who is nobody has no entry")
	for _, wrong := range []string{"", version[:3], version + "x", "\x01\x00\x00\x00", version + entry(1, 6, 0)[:7]} {
		assert.Nil(t, MapACL([]byte(wrong), account, group), "%q", wrong)
	}
}
