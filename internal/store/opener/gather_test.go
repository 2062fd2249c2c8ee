package opener_test

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"revlet/internal/practice/line"
	"revlet/internal/practice/place"
	"revlet/internal/store"
)

// gather reads objects and makes sure that each is visited once.
func gather(t *testing.T, s store.Store, names []string, most int64) (data []string, errs []error) {
	t.Helper()
	data, errs = make([]string, len(names)), make([]error, len(names))
	times := make([]int, len(names))
	var mu sync.Mutex
	store.Gather(t.Context(), s, names, most, func(i int, b []byte, err error) {
		mu.Lock()
		defer mu.Unlock()
		data[i], errs[i] = string(b), err
		times[i]++
	})
	for i, n := range times {
		assert.Equal(t, 1, n, names[i])
	}
	return data, errs
}

func TestSmallObjectsAreReadAtOnce(t *testing.T) {
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) {
			s := newLab(t, kind, nil).open()
			require.NoError(t, s.Check(t.Context()))
			require.NoError(t, put(t, s, "museum/archives/empty", ""))
			require.NoError(t, put(t, s, "museum/archives/short", "short"))
			require.NoError(t, put(t, s, "museum/archives/just", large(70_000)))
			require.NoError(t, put(t, s, "museum/archives/long", large(70_001)))
			data, errs := gather(t, s, []string{"museum/archives/just", "museum/archives/none", "museum/archives/short", "museum/archives/long", "museum/archives/empty", "museum/archives/short"}, 70_000)
			assert.Equal(t, []string{large(70_000), "", "short", "", "", "short"}, data)
			for i, err := range errs {
				switch i {
				case 1:
					assert.ErrorIs(t, err, store.ErrNotFound)
				case 3:
					assert.ErrorIs(t, err, store.ErrLong)
				default:
					assert.NoError(t, err)
				}
			}
		})
	}
}

func TestSmallObjectsOverCutConnections(t *testing.T) {
	faults := &place.Faults{}
	l := newLab(t, place.SFTP, faults)
	s := l.open()
	var names []string
	for i := range 120 {
		names = append(names, fmt.Sprintf("museum/archives/%d", i))
		require.NoError(t, put(t, s, names[i], names[i]+large(4000)))
	}
	faults.DropAfter = 150_000 // a third of them fits through
	data, errs := gather(t, l.open(), names, 16<<10)
	for i, name := range names {
		require.NoError(t, errs[i], name)
		assert.True(t, data[i] == name+large(4000), name)
	}
}

// Many small objects cost a few journeys, however many they are.
func TestSmallObjectsCostFewJourneys(t *testing.T) {
	l := newLab(t, place.SFTP, nil)
	s := l.open()
	var names []string
	for i := range 160 {
		names = append(names, fmt.Sprintf("museum/archives/%d", i))
		require.NoError(t, put(t, s, names[i], "{}"))
	}
	const journey = 20 * time.Millisecond
	at, err := url.Parse(l.cfg.SFTP)
	require.NoError(t, err)
	far, err := line.New(at.Host)
	require.NoError(t, err)
	t.Cleanup(func() { _ = far.Close() })
	far.Delay = journey / 2
	far.Start()
	l.cfg.SFTP = strings.Replace(l.cfg.SFTP, at.Port(), strconv.Itoa(far.Port()), 1)
	require.NoError(t, l.cfg.Settle(l.dir))
	s = l.open()
	gather(t, s, names[:1], 100) // connects
	began := time.Now()
	_, errs := gather(t, s, names, 100)
	took := time.Since(began)
	for i, err := range errs {
		require.NoError(t, err, names[i])
	}
	assert.Less(t, took, 160*journey, "one after the other would be three of them for each")
}
