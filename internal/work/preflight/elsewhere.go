package preflight

import (
	"context"
	"strings"
	"time"
)

// elsewhere says what is to be known of the machine that a site elsewhere is on.
func (r *run) elsewhere(ctx context.Context, o owners) {
	r.add(Passed, "machine", "%s is reached", strings.TrimPrefix(r.Site.Place.Base(), "sftp://"))
	if o.stateTimes {
		r.add(Passed, "changes", "are told by what nobody can set: the account may run `find` over there")
	} else {
		r.add(Passed, "changes", "are told by size and time; scripts and the CMS's own files are read again every week")
	}
	if strings.HasPrefix(r.Site.Place.Base(), "sftp://root@") {
		r.add(Look, "rights", "root is logged in there: whoever can write to the site can have any file read; use the site's account")
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
