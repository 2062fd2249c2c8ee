package jobs

import (
	"context"
	"time"

	"revlet/internal/archives/archive"
	"revlet/internal/archives/catalog"
	"revlet/internal/watch/history"
)

// hold sets a hold, here and in every store of the site; it returns those in
// which that failed. On this machine it counts all the same.
func (a *Agent) hold(ctx context.Context, site, name, why string) (left []Trouble, err error) {
	h := archive.Hold{Archive: name, Since: a.Now().UTC().Truncate(time.Second), Who: a.Person, Why: why}
	if err := a.History.SetHold(ctx, h); err != nil {
		return nil, err
	}
	for _, s := range a.Stores(a.Config.Sites[site]) {
		if err := catalog.PutHold(ctx, s, site, h); err != nil {
			left = append(left, Trouble{s.Name, err})
		}
	}
	return left, nil
}

// release lifts a hold. While a store could not be told, it still counts there.
func (a *Agent) release(ctx context.Context, site, name string) (left []Trouble, err error) {
	for _, s := range a.Stores(a.Config.Sites[site]) {
		if err := catalog.RemoveHold(ctx, s, site, name); err != nil {
			left = append(left, Trouble{s.Name, err})
		}
	}
	return left, a.History.DropHold(ctx, name)
}

// Hold exempts an archive from retention. It returns the stores that could not be
// told; on this machine the hold counts all the same.
func (a *Agent) Hold(ctx context.Context, h *catalog.Held, why string) (left []Trouble, err error) {
	err = a.work(ctx, &history.Run{Site: h.Site}, func(ctx context.Context, _ *history.Run) (err error) {
		left, err = a.hold(ctx, h.Site, h.Name, why)
		return err
	})
	return left, err
}

// Release lifts a hold. It returns the stores in which the archive is still held.
func (a *Agent) Release(ctx context.Context, h *catalog.Held) (left []Trouble, err error) {
	err = a.work(ctx, &history.Run{Site: h.Site}, func(ctx context.Context, _ *history.Run) (err error) {
		left, err = a.release(ctx, h.Site, h.Name)
		return err
	})
	return left, err
}
