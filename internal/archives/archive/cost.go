package archive

import "fmt"

// What JSON takes in memory once it is decoded, about: each object, and each further
// element of anything.
const (
	objectCost  = 160
	elementCost = 32
)

// costFactor is how many times its own length a record may take in memory once it is
// decoded. What Encode writes, with its indentation, takes less than three times.
const costFactor = 4

// decodedCost is about how many bytes a JSON text takes in memory once it is decoded,
// whatever it says. Nothing is decoded for that.
func decodedCost(data []byte) int64 {
	cost, inString := int64(len(data)), false
	for i := 0; i < len(data); i++ {
		switch c := data[i]; {
		case inString && c == '\\':
			i++
		case c == '"':
			inString = !inString
		case inString:
		case c == '{':
			cost += objectCost
		case c == ',' || c == '[':
			cost += elementCost
		}
	}
	return cost
}

// affordable refuses a record whose few bytes would take a great deal of memory: a
// thousand empty parts in a line.
func affordable(data []byte) error {
	if cost := decodedCost(data); cost > costFactor*int64(len(data))+64<<10 {
		return fmt.Errorf("its %d bytes would take %d in memory", len(data), cost)
	}
	return nil
}

// Interner keeps strings once that many records have in common: archives name the same
// parts again and again.
type Interner map[string]string

func (in Interner) one(s string) string {
	if kept, ok := in[s]; ok {
		return kept
	}
	in[s] = s
	return s
}

// Share has a record share its parts' strings with those that were given before.
func (in Interner) Share(r *Record) {
	for i := range r.Parts {
		p := &r.Parts[i]
		p.Name = in.one(p.Name)
		if len(p.Name) >= len(p.SHA256) && p.Name[:len(p.SHA256)] == p.SHA256 {
			p.SHA256 = p.Name[:len(p.SHA256)]
		}
		p.Kind, p.Database, p.Table, p.ContentSHA256 = in.one(p.Kind), in.one(p.Database), in.one(p.Table), in.one(p.ContentSHA256)
		for j := range p.Pieces {
			piece := &p.Pieces[j]
			piece.Name, piece.ContentSHA256 = in.one(piece.Name), in.one(piece.ContentSHA256)
		}
	}
}
