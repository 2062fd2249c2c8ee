package autostart

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/platform/disk"
)

func TestCronLine(t *testing.T) {
	c := NewCron("revlet", "/etc/100%/revlet.yaml", []string{"/opt/revlet", "--config", "/etc/100%/revlet.yaml"}, 1003)
	assert.Equal(t, "3-59/5 * * * * /opt/revlet --config /etc/100\\%/revlet.yaml  # revlet\n", c.Line)
}

func TestCronMergeKeepsWhatIsNotOurs(t *testing.T) {
	c := NewCron("revlet", "/etc/r.yaml", []string{"revlet", "--config", "/etc/r.yaml", "due"}, 0)
	text, err := c.merge("MAILTO=me\n1 2 * * * other\n4-59/5 * * * * /old/revlet --config /etc/r.yaml due  # revlet\n# a remark")
	require.NoError(t, err)
	assert.Equal(t, "MAILTO=me\n1 2 * * * other\n# a remark\n"+c.Line, text)
	_, err = c.merge(text)
	assert.ErrorIs(t, err, ErrThere, "the second time there is nothing to do")
	text, err = c.merge("")
	require.NoError(t, err)
	assert.Equal(t, c.Line, text)
}

// Configurations are beside each other: none takes the line of another one away.
func TestSeveralConfigurations(t *testing.T) {
	for file, want := range map[string]string{"/etc/revlet/revlet.yaml": "revlet", "agency.yaml": "revlet-agency", "/x/Two Words.yml": "revlet-two-words"} {
		assert.Equal(t, want, Name(file))
	}
	one := NewCron("revlet", "/etc/r.yaml", []string{"revlet", "--config", "/etc/r.yaml", "due"}, 0)
	other := NewCron("revlet", "/home/me/revlet.yaml", []string{"revlet", "--config", "/home/me/revlet.yaml", "due"}, 0)
	agency := NewCron("revlet-agency", "/etc/agency.yaml", []string{"revlet", "--config", "/etc/agency.yaml", "due"}, 0)
	_, err := other.merge(one.Line)
	assert.ErrorIs(t, err, ErrTaken)
	both, err := agency.merge(one.Line)
	require.NoError(t, err)
	assert.Equal(t, one.Line+agency.Line, both)
	left, err := one.without("A=b\n" + both + "last")
	require.NoError(t, err)
	assert.Equal(t, "A=b\n"+agency.Line+"last", left)
	_, err = one.without(left)
	assert.ErrorIs(t, err, ErrAbsent)
}

func TestSystemdQuote(t *testing.T) {
	for in, want := range map[string]string{"plain": "plain", "two words": `"two words"`, "100%": "100%%", "$x": "$$x", `a"b`: `"a\"b"`} {
		assert.Equal(t, want, systemdQuote(in))
	}
}

func TestSystemdLeavesAnotherFileAlone(t *testing.T) {
	s := Systemd{File: t.TempDir() + "/deep/revlet.service", Text: "ours\n"}
	d := &disk.Disk{}
	require.NoError(t, s.Write(d))
	require.NoError(t, s.Write(d), "the same may be written again")
	other := s
	other.Text = "changed\n"
	assert.ErrorContains(t, other.Write(d), "is there and different")
	data, err := d.ReadFile(s.File)
	require.NoError(t, err)
	assert.Equal(t, "ours\n", string(data))
}
