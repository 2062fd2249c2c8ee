package notify

import (
	"bufio"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/config"
)

// Whoever is on the way can take STARTTLS out of what a mail server offers, or answer it with a refusal: the password and the message
// are not sent then.
func TestAMailServerWithoutTLSIsToldNothing(t *testing.T) {
	password := filepath.Join(t.TempDir(), "pw")
	require.NoError(t, os.WriteFile(password, []byte("between-us-two"), 0o600))
	for name, c := range map[string]struct{ offers, answer string }{
		"it is not offered":  {"250-mail.example\r\n250 AUTH PLAIN LOGIN\r\n", "502 no\r\n"},
		"it is refused":      {"250-mail.example\r\n250-STARTTLS\r\n250 AUTH PLAIN LOGIN\r\n", "454 not now\r\n"},
		"it is pretended to": {"250-mail.example\r\n250-STARTTLS\r\n250 AUTH PLAIN LOGIN\r\n", "220 go on\r\n250 in the clear\r\n"},
	} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		var mu sync.Mutex
		var heard strings.Builder
		go func() {
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				fmt.Fprint(conn, "220 mail.example\r\n")
				for lines := bufio.NewScanner(conn); lines.Scan(); {
					mu.Lock()
					heard.WriteString(lines.Text() + "\n")
					mu.Unlock()
					switch word, _, _ := strings.Cut(strings.ToUpper(lines.Text()), " "); word {
					case "EHLO":
						fmt.Fprint(conn, c.offers)
					case "STARTTLS":
						fmt.Fprint(conn, c.answer)
					case "QUIT":
						fmt.Fprint(conn, "221 bye\r\n")
						_ = conn.Close()
					default:
						fmt.Fprint(conn, "250 yes\r\n")
					}
					if strings.Contains(lines.Text(), "\x16\x03") { // a handshake, which nobody here answers
						_ = conn.Close()
					}
				}
			}
		}()
		err = Mail(t.Context(), &config.Mail{SMTP: "smtp://" + l.Addr().String(), User: "keeper", PasswordFile: password, From: "revlet@kestrelpoint.example", To: []string{"keeper@kestrelpoint.example"}}, Event{Title: "x"})
		require.Error(t, err, name)
		require.NoError(t, l.Close())
		mu.Lock()
		for _, secret := range []string{"AUTH ", "MAIL FROM", "between-us-two", "YmV0d2Vlbi11cy10d28"} { // base64 as well
			assert.NotContains(t, heard.String(), secret, name)
		}
		assert.Contains(t, heard.String(), "EHLO", name)
		mu.Unlock()
	}
}
