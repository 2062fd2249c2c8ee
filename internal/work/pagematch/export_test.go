package pagematch

import "net/url"

// SamePage reads a page three times, and returns in what it differs from itself.
func SamePage(body []byte) []Difference {
	u := &url.URL{Scheme: "https", Host: "kestrelpoint.example", Path: "/a/b"}
	m := &matcher{Order: Order{Old: Side{Base: u}, New: Side{Base: u}}}
	read := func() *Answer {
		return &Answer{Status: 200, Kind: "text/html", Bytes: len(body), page: parse(&m.Old, u, body, nil)}
	}
	return m.differences(here+"/a/b", read(), read(), read())
}
