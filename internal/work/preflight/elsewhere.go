package preflight

import (
	"context"
	"strings"
	"time"
)

// elsewhere says what is to be known of the machine that a site elsewhere is on.
func (r *run) elsewhere(ctx context.Context, o owners) {
	r.add(Passed, "machine", "%s is reached", strings.TrimPrefix(r.Site.Place.Base(), "sftp://"))
	r.add(Passed, "changes", "told by size and time, which is all that SFTP says: scripts and the CMS's own files are read again every week whatever it says")
	if o.account == 0 {
		r.add(Look, "rights", "the site's files belong to root over there; if Revlet logs in as root, whoever can write to the site can have it read any file there: use the site's own account")
	}
	began := time.Now()
	there, known := r.Site.Place.Now(ctx)
	switch {
	case !known:
		r.add(Look, "clock", "the clock of the site's machine cannot be read (no file can be made in the account's first folder): what was changed in the last two days is read again each time")
	case there.Sub(began).Abs() > clockSlack:
		r.add(Look, "clock", "this machine and the site's are %s apart; one of the clocks is wrong", there.Sub(began).Abs().Round(time.Second))
	}
}
