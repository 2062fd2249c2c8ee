package inbox

import (
	"net/http"
	"net/smtp"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/watch/notify"
)

const letter = "From: a@kestrelpoint.example\r\nTo: keeper@kestrelpoint.example\r\nSubject: =?utf-8?q?alarm_=E2=80=9Cx=E2=80=9D?=\r\nContent-Type: text/plain; charset=utf-8\r\n\r\nThe lamp is out.\r\n"

func TestMailIsTakenAndKept(t *testing.T) {
	dir := t.TempDir()
	var got []Mail
	s, err := StartMail(MailOptions{Security: Plain, Dir: dir, Refuse: "nobody@kestrelpoint.example", Received: func(m Mail) { got = append(got, m) }})
	require.NoError(t, err)
	defer s.Close()
	address := strings.TrimPrefix(s.Address, "plain-smtp://")
	require.NoError(t, smtp.SendMail(address, nil, "a@kestrelpoint.example", []string{"keeper@kestrelpoint.example"}, []byte(letter)))
	require.Len(t, got, 1)
	assert.Equal(t, "alarm “x”", got[0].Subject)
	assert.Contains(t, got[0].Text, "The lamp is out.")
	assert.Equal(t, []string{"keeper@kestrelpoint.example"}, got[0].To)
	kept, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, kept, 1)
	data, err := os.ReadFile(filepath.Join(dir, kept[0].Name()))
	require.NoError(t, err)
	assert.Contains(t, string(data), "The lamp is out.")
	assert.Error(t, smtp.SendMail(address, nil, "a@kestrelpoint.example", []string{"nobody@kestrelpoint.example"}, []byte(letter)))
	assert.Len(t, got, 1)
}

func TestAHookKnowsASignature(t *testing.T) {
	var got []Call
	s, err := StartHook(HookOptions{Secret: "lamp", Answer: 202, Received: func(c Call) { got = append(got, c) }})
	require.NoError(t, err)
	defer s.Close()
	post := func(secret string) int {
		req, err := http.NewRequest(http.MethodPost, s.Address+"/x", strings.NewReader("body"))
		require.NoError(t, err)
		stamp := "1795000000"
		req.Header.Set(notify.StampHeader, stamp)
		req.Header.Set(notify.SignatureHeader, notify.Signature(secret, stamp, []byte("body")))
		resp, err := (&http.Client{Timeout: 5 * time.Second}).Do(req)
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
		return resp.StatusCode
	}
	assert.Equal(t, 202, post("lamp"))
	assert.Equal(t, 401, post("other"))
	require.Len(t, got, 2)
	assert.True(t, got[0].Signed)
	assert.False(t, got[1].Signed)
	assert.Equal(t, "body", string(got[0].Body))
}
