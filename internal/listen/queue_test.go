package listen

import (
	"bytes"
	"errors"
	"log/slog"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A disk that cannot be written is complained of once a minute, with how often.
func TestADiskIsComplainedOfSeldom(t *testing.T) {
	var log bytes.Buffer
	q := &queue{source: "hosts", log: slog.New(slog.NewTextHandler(&log, nil))}
	for range 4000 {
		q.complain(&q.writes, errors.New("no space left on device"))
	}
	assert.Equal(t, 1, strings.Count(log.String(), "no space left"))
	q.writes.said = q.writes.said.Add(-time.Hour)
	q.complain(&q.writes, errors.New("no space left on device"))
	assert.Contains(t, log.String(), "times=4000")
}

// While a disk takes its time over what was kept, more is kept; and nobody who waits is told before it is there.
func TestASlowDiskHoldsUpNothingThatArrives(t *testing.T) {
	s, err := openSpool(t.TempDir(), 1<<20)
	require.NoError(t, err)
	began, may := make(chan struct{}, 2), make(chan struct{})
	s.fsync = func(*os.File) error {
		began <- struct{}{}
		<-may
		return nil
	}
	var n counts
	q := &queue{source: "hosts", spool: s, log: slog.New(slog.DiscardHandler), in: make(chan *entry, 8)}
	heard := func(kept chan error) { q.in <- &entry{from: &n, kept: kept, Message: Message{Body: []byte("pump 1")}} }
	var all sync.WaitGroup
	all.Go(q.keep)
	heard(nil)
	require.Eventually(t, func() bool { return n.kept.Load() == 1 }, time.Minute, time.Millisecond)
	all.Go(func() { assert.NoError(t, s.Sync()) })
	<-began
	heard(nil)
	require.Eventually(t, func() bool { return n.kept.Load() == 2 }, time.Minute, time.Millisecond)
	told := make(chan error, 1)
	heard(told)
	require.Eventually(t, func() bool { return n.kept.Load() == 3 }, time.Minute, time.Millisecond)
	assert.Empty(t, told)
	assert.Empty(t, began, "what another keeps ends first")
	close(may)
	require.NoError(t, <-told)
	assert.Len(t, began, 1, "what came since is kept by itself")
	close(q.in)
	all.Wait()
}

// What could not be synced is not said to be kept by whoever asks next.
func TestASyncThatFailedIsOwed(t *testing.T) {
	s, err := openSpool(t.TempDir(), 1<<20)
	require.NoError(t, err)
	_, err = s.Append([][]byte{[]byte("pump 1")})
	require.NoError(t, err)
	bad := errors.New("input/output error")
	s.fsync = func(*os.File) error { return bad }
	require.ErrorIs(t, s.Sync(), bad)
	require.ErrorIs(t, s.Sync(), bad)
	s.fsync = (*os.File).Sync
	require.NoError(t, s.Sync())
}
