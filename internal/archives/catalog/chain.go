package catalog

import (
	"fmt"
	"slices"

	"revlet/internal/platform/signing"
)

// Row is what a listing has of the archives that one key has signed: each names the one
// before, so that what is missing in between can be told.
type Row struct {
	Signer signing.Public
	// Host is what the machine called itself last; only its own word for it.
	Host     string
	Archives int
	// Missing counts the archives between the first and the last that are not there: they
	// were removed, or are withheld.
	Missing int64
	// Broken are archives that are not the ones that their successors name.
	Broken []string
}

// Rows tells by signer, the newest first, what a listing holds; what nobody has signed is
// in none.
func (l *Listing) Rows() (rows []Row) {
	for _, h := range l.Archives { // the newest first
		if h.Signer() == "" {
			continue
		}
		at := slices.IndexFunc(rows, func(r Row) bool { return r.Signer == h.Signer() })
		if at < 0 {
			at = len(rows)
			rows = append(rows, Row{Signer: h.Signer(), Host: h.Host})
		}
		rows[at].Archives++
	}
	for i := range rows {
		rows[i].inspect(l.Archives)
	}
	return rows
}

// inspect goes through the archives of one signer in the order of their numbers.
func (r *Row) inspect(all []Held) {
	mine := slices.DeleteFunc(slices.Clone(all), func(h Held) bool { return h.Signer() != r.Signer })
	slices.SortStableFunc(mine, func(a, b Held) int { return int(min(max(a.Number-b.Number, -1), 1)) })
	for i := 1; i < len(mine); i++ {
		before, h := mine[i-1], mine[i]
		switch {
		case h.Number == before.Number || h.Number == before.Number+1 && (h.Before == nil || h.Before.Name != before.Name || h.Before.SHA256 != before.Checksum):
			r.Broken = append(r.Broken, fmt.Sprintf("%s does not follow %s", h.Name, before.Name))
		default:
			r.Missing += h.Number - before.Number - 1
		}
	}
}
