package report

import (
	"encoding/base64"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"slices"
)

// Brand is how a client's own page looks.
type Brand struct {
	Title, Colour string
	// Logo is a picture in the page itself.
	Logo template.URL
}

// LongestLogo is how many bytes a picture may have.
const LongestLogo = 500_000

// logoTypes are the pictures that run nothing.
var logoTypes = []string{"image/png", "image/jpeg", "image/gif", "image/webp"}

// ReadLogo reads a picture, so that the page needs nothing from elsewhere. What it is is seen by its content.
func ReadLogo(r io.Reader) (template.URL, error) {
	data, err := io.ReadAll(io.LimitReader(r, LongestLogo+1))
	if err != nil {
		return "", err
	}
	kind := http.DetectContentType(data)
	if len(data) > LongestLogo || !slices.Contains(logoTypes, kind) {
		return "", fmt.Errorf("it is to be a picture (PNG, JPEG, GIF or WebP) of at most %d kB", LongestLogo/1000)
	}
	return template.URL("data:" + kind + ";base64," + base64.StdEncoding.EncodeToString(data)), nil
}
