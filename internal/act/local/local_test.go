package local

import (
	"context"
	"os"
	"os/user"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/core/task"
	"urgentis/internal/act"
)

func job(timeout int, words ...string) act.Job {
	return act.Job{Attempt: "a1", Request: task.Request{Kind: "local", Words: words, Timeout: timeout}}
}

func TestOffUnlessSwitchedOn(t *testing.T) {
	r := Hand{}.Do(context.Background(), job(5, "true"))
	assert.Equal(t, flow.Failed, r.State)
	assert.Contains(t, r.Error, "--allow-local")
}

func TestLocalCommands(t *testing.T) {
	h := Hand{On: true}
	r := h.Do(context.Background(), job(5, "sh", "-c", "echo $URGENTIS_ATTEMPT $HOME; exit 2"))
	assert.Equal(t, flow.Failed, r.State)
	assert.Equal(t, 2, *r.Exit)
	assert.Equal(t, "a1\n", r.Stdout.Text(), "the service's own environment is not handed on")
	assert.Equal(t, flow.Failed, h.Do(context.Background(), job(5, "no-such-program")).State)
	begin := time.Now()
	r = h.Do(context.Background(), job(1, "sh", "-c", "sleep 20 & sleep 20"))
	assert.Equal(t, flow.Unknown, r.State)
	assert.Less(t, time.Since(begin), 10*time.Second, "its children end too")
}

func TestLocalCommandsRunAsAnotherAccount(t *testing.T) {
	me, err := user.Current()
	require.NoError(t, err)
	_, err = As(me.Username)
	assert.ErrorContains(t, err, "another account")
	_, err = As("no-such-account")
	assert.Error(t, err)
	if os.Getuid() != 0 {
		_, err = As("nobody")
		assert.ErrorContains(t, err, "only a service that runs as root")
		return
	}
	kept := filepath.Join(t.TempDir(), "seal.key")
	require.NoError(t, os.WriteFile(kept, []byte("canary-7781"), 0o600))
	t.Setenv("CANARY", "canary-7781")
	account, err := As("nobody")
	require.NoError(t, err)
	r := Hand{
		On:      true,
		Account: account,
	}.Do(
		context.Background(),
		job(5, "sh", "-c", "id -un; cat "+kept+"; cat /proc/$PPID/environ"),
	)
	assert.Equal(t, "nobody\n", r.Stdout.Text())
	assert.Contains(t, r.Stderr.Text(), "ermission denied")
}
