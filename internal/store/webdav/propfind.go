package webdav

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path"
	"strings"
	"time"

	"github.com/studio-b12/gowebdav"

	"revlet/internal/store"
)

// The client library takes a listing that breaks off for one that has ended, and passes
// over what it cannot read: objects would be missing and nobody told. So properties are
// asked for and read here.

const question = `<?xml version="1.0" encoding="utf-8"?>
<D:propfind xmlns:D="DAV:"><D:prop><D:resourcetype/><D:getcontentlength/><D:getlastmodified/></D:prop></D:propfind>`

// response is one resource of a multistatus (RFC 4918 §14.24).
type response struct {
	Href   string `xml:"DAV: href"`
	Status string `xml:"DAV: status"`
	Stats  []struct {
		Status string `xml:"DAV: status"`
		Prop   struct {
			Collection *struct{} `xml:"DAV: resourcetype>collection"`
			Length     string    `xml:"DAV: getcontentlength"`
			Modified   string    `xml:"DAV: getlastmodified"`
		} `xml:"DAV: prop"`
	} `xml:"DAV: propstat"`
}

// entry returns what a resource is, named by its whole path on the server.
func (r response) entry() (store.Entry, error) {
	at, err := url.Parse(strings.TrimSpace(r.Href))
	if err != nil || at.Path == "" {
		return store.Entry{}, fmt.Errorf("the name %.80q cannot be read", r.Href)
	}
	e := store.Entry{Info: store.Info{Name: "/" + strings.Trim(at.Path, "/")}}
	for _, s := range r.Stats {
		if !strings.Contains(s.Status, " 200") {
			continue
		}
		e.Folder = s.Prop.Collection != nil
		if e.Changed, err = http.ParseTime(s.Prop.Modified); err != nil {
			e.Changed = time.Unix(0, 0)
		}
		if e.Folder {
			return e, nil
		}
		if _, err := fmt.Sscan(s.Prop.Length, &e.Bytes); err != nil || e.Bytes < 0 {
			return e, fmt.Errorf("the length of %.200q is not said", e.Name)
		}
		return e, nil
	}
	return e, fmt.Errorf("the server does not show %.200q (%s)", e.Name, strings.TrimSpace(r.Status))
}

// propfind asks for what is under a name, and with depth 1 for what is in that folder. The
// answer is whole, or there is an error; where nothing is, one of status 404.
func (s *Store) propfind(ctx context.Context, name, depth string) (all []store.Entry, requested string, err error) {
	at, err := url.Parse(s.o.URL)
	if err != nil {
		return nil, "", err
	}
	at.Path, at.RawPath = path.Join("/", at.Path, name), ""
	if depth == "1" {
		at.Path += "/"
	}
	r, err := http.NewRequestWithContext(ctx, "PROPFIND", at.String(), strings.NewReader(question))
	if err != nil {
		return nil, "", err
	}
	r.Header.Set("Depth", depth)
	r.Header.Set("Content-Type", "application/xml; charset=utf-8")
	client := http.Client{Transport: carrier{ctx, s.auth, false}}
	resp, err := client.Do(r)
	if err != nil {
		return nil, "", err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusMultiStatus {
		return nil, "", gowebdav.NewPathError("PROPFIND", name, resp.StatusCode)
	}
	if all, err = multistatus(resp.Body); err != nil {
		return nil, "", fmt.Errorf("the answer about %s: %w", at.Redacted(), err)
	}
	return all, "/" + strings.Trim(resp.Request.URL.Path, "/"), nil
}

// multistatus reads an answer to its end.
func multistatus(in io.Reader) (all []store.Entry, err error) {
	d := xml.NewDecoder(in)
	for open := false; ; {
		token, err := d.Token()
		start, is := token.(xml.StartElement)
		switch {
		case errors.Is(err, io.EOF) && open:
			return all, nil
		case errors.Is(err, io.EOF):
			return nil, errors.New("it is no multistatus")
		case err != nil:
			return nil, err
		case is && start.Name == xml.Name{Space: "DAV:", Local: "multistatus"}:
			open = true
		case is && !open:
			return nil, errors.New("it is no multistatus")
		case is && start.Name == xml.Name{Space: "DAV:", Local: "response"}:
			var r response
			if err := d.DecodeElement(&r, &start); err != nil {
				return nil, err
			}
			e, err := r.entry()
			if err != nil {
				return nil, err
			}
			all = append(all, e)
		case is:
			if err := d.Skip(); err != nil { // a description, or what an extension adds
				return nil, err
			}
		}
	}
}

// stat asks for one resource.
func (s *Store) stat(ctx context.Context, name string) (store.Entry, error) {
	all, _, err := s.propfind(ctx, name, "0")
	if err == nil && len(all) != 1 {
		err = fmt.Errorf("the answer about %s is about %d things", name, len(all))
	}
	if err != nil {
		return store.Entry{}, err
	}
	return all[0], nil
}

// listed reads one folder. An answer names the folder itself as well, in any place.
func (s *Store) listed(ctx context.Context, dir string) ([]store.Entry, error) {
	all, requested, err := s.propfind(ctx, dir, "1")
	if err != nil {
		return nil, err
	}
	self := -1
	for i, e := range all {
		if self < 0 || len(e.Name) < len(all[self].Name) {
			self = i
		}
	}
	// A server behind another one may know the folder by a longer or a shorter path.
	if self < 0 || !strings.HasSuffix(requested, strings.TrimSuffix(all[self].Name, "/")) && !strings.HasSuffix(all[self].Name, strings.TrimSuffix(requested, "/")) {
		return nil, fmt.Errorf("the answer about the folder %s does not name it", dir)
	}
	if !all[self].Folder {
		return nil, gowebdav.NewPathError("PROPFIND", dir, http.StatusMethodNotAllowed)
	}
	above := all[self].Name
	entries := make([]store.Entry, 0, len(all)-1)
	for i, e := range all {
		if i == self || e.Name == above {
			continue
		}
		if path.Dir(e.Name) != above {
			return nil, fmt.Errorf("the answer about the folder %s names %.200q, which is not in it", dir, e.Name)
		}
		e.Name = path.Base(e.Name)
		entries = append(entries, e)
	}
	return entries, nil
}
