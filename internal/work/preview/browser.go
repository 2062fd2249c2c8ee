package preview

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// ErrNoBrowser is returned when no browser is found that can be led by a proxy of its own.
var ErrNoBrowser = errors.New("no browser is found here that takes a proxy for one profile")

// browsers are programs of browsers, as systems install them.
var browsers = []string{"chromium", "chromium-browser", "google-chrome", "google-chrome-stable", "microsoft-edge", "firefox", "firefox-esr"}

// FindBrowser returns the program of an installed browser, or the one that is named.
func FindBrowser(named string) (string, error) {
	if named != "" {
		return exec.LookPath(named)
	}
	for _, name := range browsers {
		if program, err := exec.LookPath(name); err == nil {
			return program, nil
		}
	}
	return "", ErrNoBrowser
}

// Browser is the command that opens a page in a browser of its own profile, in an empty folder, through
// a proxy: the person's own profile, with its cookies and its cache, is not touched.
func Browser(program, proxy, page, profile string) (*exec.Cmd, error) {
	if strings.Contains(filepath.Base(program), "firefox") {
		host, port, err := net.SplitHostPort(proxy)
		if err != nil {
			return nil, err
		}
		prefs := fmt.Sprintf(`user_pref("network.proxy.type", 1);
user_pref("network.proxy.http", %[1]q);
user_pref("network.proxy.http_port", %[2]s);
user_pref("network.proxy.ssl", %[1]q);
user_pref("network.proxy.ssl_port", %[2]s);
user_pref("network.proxy.allow_hijacking_localhost", true);
user_pref("browser.shell.checkDefaultBrowser", false);
user_pref("datareporting.policy.dataSubmissionEnabled", false);
`, host, port)
		if err := os.WriteFile(filepath.Join(profile, "user.js"), []byte(prefs), 0o600); err != nil {
			return nil, err
		}
		return exec.Command(program, "--no-remote", "--profile", profile, page), nil
	}
	return exec.Command(program, "--user-data-dir="+profile, "--proxy-server=http://"+proxy, "--proxy-bypass-list=<-loopback>", "--no-first-run", "--no-default-browser-check", page), nil
}
