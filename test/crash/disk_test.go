package crash

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/access"
	"urgentis/internal/demo"
	"urgentis/internal/localdb"
	"urgentis/internal/store"
	"urgentis/internal/testapi"
)

// smallDisk is a file system of its own that the test may fill.
func smallDisk(t *testing.T) string {
	if os.Getuid() != 0 {
		t.Skip("only root mounts file systems")
	}
	dir, err := os.MkdirTemp("/tmp", "disk")
	require.NoError(t, err)
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=400m,mode=755", "none", dir).CombinedOutput(); err != nil {
		os.Remove(dir) //nolint:errcheck // it is empty
		t.Skipf("no file system can be mounted here: %s", out)
	}
	t.Cleanup(func() {
		exec.Command("umount", "-l", dir).Run() //nolint:errcheck // it is of this test alone
		os.Remove(dir)                          //nolint:errcheck // see above
	})
	return dir
}

// fill takes all the room that a file system has, and gives a function that gives it back.
func fill(t *testing.T, dir string) (free func()) {
	file := filepath.Join(dir, "ballast")
	require.Error(t, exec.Command("dd", "if=/dev/zero", "of="+file, "bs=64k").Run(), "it is full")
	return func() { require.NoError(t, os.Remove(file)) }
}

// The service's own disk is full, with its database on it, while a gate waits: nothing is answered that is not kept,
// nothing is begun twice, and once there is room again everything goes on.
func TestTheServicesOwnDiskIsFull(t *testing.T) {
	dir := smallDisk(t)
	s := &stage{t: t, dir: dir}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s.listen = l.Addr().String()
	require.NoError(t, l.Close())
	s.fleet, err = demo.FreeFleet(filepath.Join(t.TempDir(), "fleet"))
	require.NoError(t, err)
	t.Cleanup(s.fleet.Stop)
	s.up()
	t.Cleanup(func() {
		s.kill()
		localdb.StopAt(dir) //nolint:errcheck // it may be gone
	})
	ctx := context.Background()
	db, err := localdb.Start(ctx, dir)
	require.NoError(t, err)
	s.url = db.URL
	st, err := store.Open(ctx, s.url, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	admin, approver := testapi.Token(t, st, "admin", "test", access.Admin),
		testapi.Token(t, st, "approver", "somebody else", access.Approver)
	st.Close()
	s.admin, err = demo.Client("http://"+s.listen, admin)
	require.NoError(t, err)
	s.approver, err = demo.Client("http://"+s.listen, approver)
	require.NoError(t, err)
	s.source, err = demo.SetUp(ctx, s.admin, s.fleet, nil, "")
	require.NoError(t, err)
	s.alert()
	require.Eventually(t, func() bool {
		g, err := s.admin.ListGatesWithResponse(ctx)
		return err == nil && g.JSON200 != nil && len(*g.JSON200) == 1
	}, time.Minute, 50*time.Millisecond)

	free := fill(t, dir)
	// What only repeats needs no more room; each of these does.
	refused, n := 0, 0
	for began := time.Now(); refused < 5 && time.Since(began) < time.Minute; n++ {
		s.person() //nolint:errcheck // it may be refused
		switch s.reported(fmt.Sprint("full-", n)) {
		case http.StatusAccepted, http.StatusTooManyRequests:
		default:
			refused++
		}
		time.Sleep(20 * time.Millisecond)
	}
	assert.Positive(t, refused, "what cannot be kept is not taken")
	free()
	require.Eventually(t, func() bool { return s.reported("after") == http.StatusAccepted }, 60*time.Second,
		200*time.Millisecond, "the service said: %s", &s.log)
	s.ends()
}

// reported reports a warning with a key, and gives the status of the answer; 0 where there was none.
func (s *stage) reported(key string) int {
	req, err := http.NewRequest(http.MethodPost, "http://"+s.listen+"/in/harbour-watch", strings.NewReader(
		`{"key":"`+key+`","severity":"warning","summary":"w","service":"fuel","labels":{"signal":"other"}}`))
	require.NoError(s.t, err)
	req.Header.Set("Authorization", "Bearer "+s.source)
	res, err := quick.Do(req)
	if err != nil {
		return 0
	}
	res.Body.Close()
	return res.StatusCode
}
