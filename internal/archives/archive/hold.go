package archive

import (
	"path"
	"time"
)

// Hold exempts an archive from retention. It lies in the store beside the
// archive, so that every machine knows it.
type Hold struct {
	Archive string    `json:"archive"`
	Since   time.Time `json:"since"`
	Who     string    `json:"who"`
	Why     string    `json:"why"`
}

// HoldsDir is the folder of the holds on a site's archives in a store.
func HoldsDir(site string) string { return path.Join(site, "holds") }

// HoldPath is where the hold on an archive lies in a store.
func HoldPath(site, archive string) string { return path.Join(HoldsDir(site), archive+".json") }
