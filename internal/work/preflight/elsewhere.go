package preflight

import (
	"context"
	"path"
	"strings"
	"time"

	"revlet/internal/site/tree"
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
		r.add(Look, "clock", "the clock of the site's machine cannot be read (over FTP it never is; over SFTP a file is made for it in the account's first folder): what was changed in the last two days is read again each time")
	case there.Sub(began).Abs() > clockSlack:
		r.add(Look, "clock", "this machine and the site's are %s apart; one of the clocks is wrong", there.Sub(began).Abs().Round(time.Second))
	}
}

// hides tells of a server that does not list names which begin with a dot.
func (r *run) hides(in tree.Folder) error {
	if t, ok := in.(tree.HiddenTeller); ok {
		hides, err := t.Hides()
		if err != nil {
			return err
		}
		if hides {
			r.add(Look, "hidden", "no name in the webroot that begins with a dot is listed: if there are any, such as .htaccess, the server hides them, and they would be missing from archives")
		}
	}
	return nil
}

// roomThere looks whether a restore has room on the site's machine, and on this one, where it
// is made ready.
func (r *run) roomThere(ctx context.Context) {
	here, err := r.State.Disk.Free(r.State.Dir)
	if err == nil && here < r.bytes {
		r.add(Look, "restore", "%s free in %s, a restore makes %s ready there", size(here), r.State.Dir, size(r.bytes))
		return
	}
	w, ok := r.Site.Place.(tree.Writer)
	if !ok {
		return
	}
	switch free, known := w.Free(ctx, path.Dir(r.Site.PathAt(r.Site.Root))); {
	case !known:
		r.add(Look, "restore", "how much is free on the site's machine is not told; a restore stages %s there", size(r.bytes))
	case free < r.bytes:
		r.add(Look, "restore", "%s free on the site's machine, a restore stages %s there", size(free), size(r.bytes))
	default:
		r.add(Passed, "restore", "%s free on the site's machine, a restore stages %s there", size(free), size(r.bytes))
	}
}
