// Package contract tries whether a store keeps to what Revlet needs of one: for helper programs of people's
// own, and for places whose servers are not like others.
package contract

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"revlet/internal/store"
)

// Result is what came of one point.
type Result struct {
	Point string
	// Err is why the store does not keep to it; nil if it does.
	Err error
}

// Run tries all points, in a folder of its own that is cleared afterwards. told hears of each.
func Run(ctx context.Context, s store.Store, told func(Result)) (kept bool) {
	token := make([]byte, 8)
	_, _ = rand.Read(token) // it never fails
	t := &trial{Store: s, top: "contract-" + hex.EncodeToString(token)}
	kept = true
	for _, p := range []struct {
		point string
		try   func(context.Context) error
	}{
		{"an object that is not there is said to be missing", t.missing},
		{"what is written is read back, of any length", t.readBack},
		{"an object is read from any byte on", t.offsets},
		{"its length is known, and it is there at once", t.stat},
		{"objects are listed at any depth, and folders by name", t.list},
		{"an object is replaced whole", t.replace},
		{"several are written and read at a time", t.together},
		{"one that is not read to its end costs nothing", t.givenUp},
		{"an object is removed; removing it again is no error", t.remove},
	} {
		err := p.try(ctx)
		kept = kept && err == nil
		told(Result{p.point, err})
	}
	t.clear(context.WithoutCancel(ctx))
	return kept
}

type trial struct {
	store.Store
	top string
	// written are the objects that have to go.
	written []string
}

func (t *trial) name(rest string) string { return t.top + "/" + rest }

func content(n int) []byte {
	b := make([]byte, n)
	_, _ = rand.Read(b)
	return b
}

func (t *trial) put(ctx context.Context, name string, b []byte) error {
	t.written = append(t.written, name)
	return t.Put(ctx, name, bytes.NewReader(b), int64(len(b)))
}

func (t *trial) get(ctx context.Context, name string, offset int64) ([]byte, error) {
	in, err := t.Open(ctx, name, offset)
	if err != nil {
		return nil, err
	}
	b, err := io.ReadAll(in)
	return b, errors.Join(err, in.Close())
}

func (t *trial) same(ctx context.Context, name string, want []byte, offset int64) error {
	got, err := t.get(ctx, name, offset)
	if err == nil && !bytes.Equal(got, want) {
		err = fmt.Errorf("%d bytes were read from byte %d on, which are not the %d that were written", len(got), offset, len(want))
	}
	return err
}

func (t *trial) missing(ctx context.Context) error {
	_, opened := t.get(ctx, t.name("nothing"), 0)
	_, stated := t.Stat(ctx, t.name("nothing"))
	for _, err := range []error{opened, stated} {
		if !errors.Is(err, store.ErrNotFound) {
			return fmt.Errorf("it was said instead: %v", err)
		}
	}
	all, err := t.List(ctx, t.top)
	if err == nil && len(all) > 0 {
		err = fmt.Errorf("a folder that is not there lists %d objects", len(all))
	}
	return err
}

func (t *trial) readBack(ctx context.Context) error {
	for _, n := range []int{0, 1, 4096, 70_001, 3 << 20} {
		name, b := t.name(fmt.Sprintf("parts/ab/%d", n)), content(n)
		if err := t.put(ctx, name, b); err != nil {
			return fmt.Errorf("%d bytes: %w", n, err)
		}
		if err := t.same(ctx, name, b, 0); err != nil {
			return fmt.Errorf("%d bytes: %w", n, err)
		}
	}
	return nil
}

func (t *trial) offsets(ctx context.Context) error {
	b := content(100_000)
	if err := t.put(ctx, t.name("offsets"), b); err != nil {
		return err
	}
	for _, at := range []int{1, 65_536, 99_999, 100_000} {
		if err := t.same(ctx, t.name("offsets"), b[at:], int64(at)); err != nil {
			return err
		}
	}
	return nil
}

func (t *trial) stat(ctx context.Context) error {
	if err := t.put(ctx, t.name("stat"), content(12_345)); err != nil {
		return err
	}
	info, err := t.Stat(ctx, t.name("stat"))
	if err == nil && info.Bytes != 12_345 {
		err = fmt.Errorf("it is said to have %d bytes of 12345", info.Bytes)
	}
	return err
}

func (t *trial) list(ctx context.Context) error {
	want := []string{t.name("list/a.json"), t.name("list/deep/er/b"), t.name("list/deep/er/c"), t.name("list/other/d")}
	for _, name := range want {
		if err := t.put(ctx, name, []byte(name)); err != nil {
			return err
		}
	}
	all, err := t.List(ctx, t.name("list"))
	if err != nil {
		return err
	}
	var got []string
	for _, info := range all {
		got = append(got, info.Name)
		if info.Bytes != int64(len(info.Name)) {
			return fmt.Errorf("%s is listed with %d bytes of %d", info.Name, info.Bytes, len(info.Name))
		}
	}
	slices.Sort(got)
	if !slices.Equal(got, want) {
		return fmt.Errorf("%s is listed as %s", strings.Join(want, ", "), strings.Join(got, ", "))
	}
	folders, err := t.Folders(ctx, t.name("list"))
	slices.Sort(folders)
	if err == nil && !slices.Equal(folders, []string{"deep", "other"}) {
		err = fmt.Errorf("the folders deep and other are listed as %s", strings.Join(folders, ", "))
	}
	return err
}

func (t *trial) replace(ctx context.Context) error {
	for _, n := range []int{9000, 9000, 10, 50_000} {
		b := content(n)
		if err := t.put(ctx, t.name("replaced"), b); err != nil {
			return err
		}
		if err := t.same(ctx, t.name("replaced"), b, 0); err != nil {
			return err
		}
	}
	return nil
}

func (t *trial) together(ctx context.Context) error {
	g, ctx := errgroup.WithContext(ctx)
	for i := range 8 {
		name, b := t.name(fmt.Sprintf("together/%d", i)), content(200_000+i)
		t.written = append(t.written, name)
		g.Go(func() error {
			if err := t.Put(ctx, name, bytes.NewReader(b), int64(len(b))); err != nil {
				return err
			}
			return t.same(ctx, name, b, 0)
		})
	}
	return g.Wait()
}

func (t *trial) givenUp(ctx context.Context) error {
	if err := t.put(ctx, t.name("long"), content(2<<20)); err != nil {
		return err
	}
	for range 6 {
		in, err := t.Open(ctx, t.name("long"), 0)
		if err != nil {
			return err
		}
		_, err = io.ReadFull(in, make([]byte, 1000))
		if err = errors.Join(err, in.Close()); err != nil {
			return err
		}
	}
	_, err := t.Stat(ctx, t.name("long"))
	return err
}

func (t *trial) remove(ctx context.Context) error {
	if err := t.put(ctx, t.name("removed"), []byte("x")); err != nil {
		return err
	}
	for range 2 {
		if err := t.Remove(ctx, t.name("removed")); err != nil {
			return err
		}
	}
	if _, err := t.Stat(ctx, t.name("removed")); !errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("it is there still: %v", err)
	}
	return nil
}

// clear removes what was written.
func (t *trial) clear(ctx context.Context) {
	for _, name := range t.written {
		_ = t.Remove(ctx, name) // what cannot be removed was said by the point about that
	}
}
