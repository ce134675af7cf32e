package app_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/access"
	"urgentis/internal/app"
	"urgentis/internal/listen"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

// shaky is a door at which anything may break, before and after it kept what it was given, and at any moment between.
type shaky struct {
	*app.Heard
	mu  sync.Mutex
	any *rand.Rand
	// broke counts how often.
	broke int
}

func (d *shaky) chance(of int) int {
	d.mu.Lock()
	defer d.mu.Unlock()
	n := d.any.IntN(of)
	if n < 3 {
		d.broke++
	}
	return n
}

func (d *shaky) TakeHeard(ctx context.Context, source string, b listen.Batch) error {
	switch d.chance(5) {
	case 0:
		return errors.New("broken before")
	case 1:
		return errors.Join(d.Heard.TakeHeard(ctx, source, b), errors.New("broken after"))
	case 2:
		cut, cancel := context.WithTimeout(ctx, time.Duration(d.chance(30_000))*time.Microsecond)
		defer cancel()
		return d.Heard.TakeHeard(cut, source, b)
	}
	return d.Heard.TakeHeard(ctx, source, b)
}

func (d *shaky) SetPlace(ctx context.Context, source, spool string, at listen.Place) error {
	if d.chance(4) == 0 {
		return errors.Join(d.Heard.SetPlace(ctx, source, spool, at), errors.New("broken"))
	}
	return d.Heard.SetPlace(ctx, source, spool, at)
}

// Whatever breaks while a spool is handed on, and however often, each message is taken once: counts are exact, and
// nothing that cannot be read is kept twice.
func TestWhatASpoolHoldsIsTakenOnce(t *testing.T) {
	a := open(t)
	_, err := a.Push(ctx, iva, pushing(strings.Replace(hosts, "10.1.0.0/16", "127.0.0.0/8", 1)))
	require.NoError(t, err)
	h, err := a.Heard()
	require.NoError(t, err)
	const each = 150
	for seed := range uint64(4) {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			random := rand.New(rand.NewPCG(seed, 7))
			door := &shaky{Heard: h, any: rand.New(rand.NewPCG(seed, 8))}
			c := listen.Config{SyslogTCP: "127.0.0.1:0", Dir: t.TempDir(), Spool: 64 << 20, Door: door,
				Log: slog.New(slog.DiscardHandler)}
			want, unparsed, sent := map[string][]int64{}, 0, 0
			open := map[string]bool{}
			for range 3 {
				ears, err := listen.Start(ctx, c)
				require.NoError(t, err)
				conn, err := net.Dial("tcp", ears.Addresses()["syslog-tcp"])
				require.NoError(t, err)
				for range each {
					key := fmt.Sprintf("host-%d-%d", seed, random.IntN(6))
					pri := []int{11, 11, 11, 11, 10, 13, 12}[random.IntN(7)]
					switch {
					case pri == 12:
						unparsed++
					case pri == 13 && !open[key]:
						pri = 11
						fallthrough
					case pri != 13 && !open[key]:
						open[key] = true
						want[key] = append(want[key], 1)
					default:
						open[key] = pri != 13
						want[key][len(want[key])-1]++
					}
					sent++
					_, err := fmt.Fprintf(conn, "<%d>1 - quay %s - - - said %d\n", pri, key, sent)
					require.NoError(t, err)
				}
				require.NoError(t, conn.Close())
				require.Eventually(t, func() bool { return ears.Status()[0].Heard == each }, time.Minute,
					time.Millisecond)
				ears.Stop() // in the middle of it
			}
			door.any = rand.New(rand.NewPCG(seed, 9))
			ears, err := listen.Start(ctx, c)
			require.NoError(t, err)
			defer ears.Stop()
			waits := func() bool { return ears.Status()[0].Waiting == 0 }
			require.Eventually(t, waits, 2*time.Minute, 10*time.Millisecond)
			got := map[string][]int64{}
			list, err := a.Store.In(ctx).Alerts(access.Scope{All: true}, store.WhichAlerts{}, store.Place{}, 10_000)
			require.NoError(t, err)
			slices.Reverse(list) // they are the newest first
			for _, x := range list {
				if want[x.Key] != nil {
					got[x.Key] = append(got[x.Key], x.Count)
				}
			}
			assert.Equal(t, want, got)
			var kept int
			require.NoError(t, testdb.SQL(a.Store).Raw("select count(*) from unparsed").Scan(&kept).Error)
			assert.Equal(t, unparsed, kept)
			require.NoError(t, testdb.SQL(a.Store).Exec("delete from unparsed").Error)
			door.mu.Lock()
			defer door.mu.Unlock()
			assert.Positive(t, door.broke)
		})
	}
}
