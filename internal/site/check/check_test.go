package check

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"

	"revlet/internal/config"
)

func TestRun(t *testing.T) {
	pages := http.NewServeMux()
	pages.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "<h1>Opening hours</h1>") })
	pages.HandleFunc("/broken", func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "no", http.StatusInternalServerError) })
	pages.HandleFunc("/polite", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "There has been a critical error") })
	pages.HandleFunc("/cut", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "999")
		fmt.Fprint(w, "half a pa")
	})
	server := httptest.NewServer(pages)
	defer server.Close()
	for _, c := range []struct {
		check config.Check
		want  string
	}{
		{config.Check{Path: "/", Status: 200, Contains: "Opening hours"}, ""},
		{config.Check{}, ""},
		{config.Check{Path: "/", Contains: "Closed"}, `lacks the text "Closed"`},
		{config.Check{Path: "/", Lacks: "hours"}, `shows "hours"`},
		{config.Check{Path: "/broken"}, "answers 500 Internal Server Error, 200 was expected"},
		{config.Check{Path: "/broken", Status: 500}, ""},
		{config.Check{Path: "/polite"}, "critical error"},
		{config.Check{Path: "/cut"}, "breaks off"},
	} {
		r := Run(t.Context(), server.URL, c.check, []string{"critical error"})
		if c.want == "" {
			assert.True(t, r.OK(), "%+v: %s", c.check, r.Trouble)
		} else {
			assert.Contains(t, r.Trouble, c.want)
		}
	}
	address := server.URL
	server.Close()
	assert.Contains(t, Run(t.Context(), address, config.Check{}, nil).Trouble, "refused")
}
