package place

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"html"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// Grants has a WebDAV place give tokens to whoever somebody has said yes to on a page of it (RFC 8628), and take
// these alone (RFC 6750). What can be renewed with is good for once. The zero value is a sound one.
type Grants struct {
	// Lasts is for how long a token is good; 0 means an hour.
	Lasts time.Duration
	// Requests is for how many requests a token is good; 0 means any number.
	Requests int
	// Once gives nothing to renew with.
	Once bool
	// SlowDown is how many times asking is to become slower.
	SlowDown atomic.Int64
	// Down lets nobody get or renew a token for now: the answer is an error of the server's.
	Down atomic.Bool
	// Issuer, if set, is what the metadata say of whose they are.
	Issuer string

	mu      sync.Mutex
	asked   map[string]*question
	access  map[string]time.Time
	used    map[string]int
	refresh map[string]bool
	given   int
}

// question is one that somebody is to answer.
type question struct {
	code     string
	yes, no  bool
	answered bool
}

// Answer says yes or no to the question of a code, as somebody does on the page.
func (g *Grants) Answer(code string, yes bool) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, q := range g.asked {
		if q.code == code && !q.answered {
			q.yes, q.no, q.answered = yes, !yes, true
			return true
		}
	}
	return false
}

// TakeBack ends all that was given.
func (g *Grants) TakeBack() {
	g.mu.Lock()
	defer g.mu.Unlock()
	clear(g.access)
	clear(g.refresh)
}

// Given is how many tokens were given so far.
func (g *Grants) Given() int {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.given
}

// good tells whether a request carries a token that is good.
func (g *Grants) good(r *http.Request) bool {
	token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	g.mu.Lock()
	defer g.mu.Unlock()
	ends, known := g.access[token]
	if g.used[token]++; g.Requests > 0 && g.used[token] > g.Requests {
		return false
	}
	return ok && known && time.Now().Before(ends)
}

// The paths of a place that gives tokens.
const (
	metadataPath = "/.well-known/oauth-authorization-server"
	pagePath     = "/link"
	devicePath   = "/link/device"
	tokenPath    = "/link/token"
	revokePath   = "/link/revoke"
)

// serve answers what is about tokens; done tells that it was.
func (g *Grants) serve(w http.ResponseWriter, r *http.Request, base string) (done bool) {
	g.mu.Lock()
	if g.asked == nil {
		g.asked, g.access, g.refresh, g.used = map[string]*question{}, map[string]time.Time{}, map[string]bool{}, map[string]int{}
	}
	g.mu.Unlock()
	switch r.URL.Path {
	case metadataPath:
		issuer := g.Issuer
		if issuer == "" {
			issuer = base
		}
		answerJSON(w, http.StatusOK, map[string]any{"issuer": issuer, "device_authorization_endpoint": base + devicePath, "token_endpoint": base + tokenPath, "revocation_endpoint": base + revokePath})
	case pagePath:
		g.page(w, r)
	case devicePath:
		g.ask(w, base)
	case tokenPath:
		g.token(w, r)
	case revokePath:
		g.mu.Lock()
		delete(g.access, r.FormValue("token"))
		delete(g.refresh, r.FormValue("token"))
		g.mu.Unlock()
	default:
		return false
	}
	return true
}

// page is what somebody sees.
func (g *Grants) page(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	code := r.FormValue("code")
	if r.Method == http.MethodPost {
		if g.Answer(code, r.FormValue("answer") == "yes") {
			fmt.Fprint(w, "<!doctype html><title>Done</title><p>Done. You may close this page.")
		} else {
			http.Error(w, "nobody has asked with this code", http.StatusNotFound)
		}
		return
	}
	fmt.Fprintf(w, `<!doctype html><html lang="en"><title>May it?</title><form method="post"><p>May this program keep files here? <label>Code <input name="code" value="%s"></label> <button name="answer" value="yes">Yes</button> <button name="answer" value="no">No</button></form>`, html.EscapeString(code))
}

func (g *Grants) ask(w http.ResponseWriter, base string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	device, code := rand.Text(), rand.Text()
	code = code[:4] + "-" + code[4:8]
	g.asked[device] = &question{code: code}
	answerJSON(w, http.StatusOK, map[string]any{"device_code": device, "user_code": code, "verification_uri": base + pagePath, "verification_uri_complete": base + pagePath + "?code=" + code, "expires_in": 600, "interval": 1})
}

// token gives one, for a yes or for what the last one came with.
func (g *Grants) token(w http.ResponseWriter, r *http.Request) {
	g.mu.Lock()
	defer g.mu.Unlock()
	refuse := func(code string) { answerJSON(w, http.StatusBadRequest, map[string]any{"error": code}) }
	switch q := g.asked[r.FormValue("device_code")]; {
	case g.Down.Load():
		http.Error(w, "down for now", http.StatusServiceUnavailable)
		return
	case r.FormValue("grant_type") == "refresh_token":
		if !g.refresh[r.FormValue("refresh_token")] {
			refuse("invalid_grant")
			return
		}
		delete(g.refresh, r.FormValue("refresh_token"))
	case q == nil:
		refuse("expired_token")
		return
	case q.no:
		refuse("access_denied")
		return
	case g.SlowDown.Load() > 0:
		g.SlowDown.Add(-1)
		refuse("slow_down")
		return
	case !q.yes:
		refuse("authorization_pending")
		return
	default:
		delete(g.asked, r.FormValue("device_code"))
	}
	lasts := g.Lasts
	if lasts == 0 {
		lasts = time.Hour
	}
	access := rand.Text()
	g.access[access] = time.Now().Add(lasts)
	g.given++
	answer := map[string]any{"access_token": access, "token_type": "Bearer", "expires_in": max(int(lasts.Seconds()), 1)}
	if !g.Once {
		refresh := rand.Text()
		g.refresh[refresh] = true
		answer["refresh_token"] = refresh
	}
	answerJSON(w, http.StatusOK, answer)
}

func answerJSON(w http.ResponseWriter, status int, what map[string]any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(what)
}
