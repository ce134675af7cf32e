package crash

import (
	"encoding/json"
	"go/build"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// stepFile names the file whose number of seconds the wall clock of a stepped program is off.
const stepFile = "URGENTIS_TEST_STEP"

// stepped builds the program with a wall clock that steps: what the standard library says is the time is overlaid,
// nothing of the program is. Its monotonic clock goes on, as that of a machine does.
func stepped(t *testing.T) string {
	dir := t.TempDir()
	source := filepath.Join(build.Default.GOROOT, "src/time/time.go")
	text, err := os.ReadFile(source)
	require.NoError(t, err)
	now := "func Now() Time {\n\tsec, nsec, mono := runtimeNow()\n"
	require.Contains(t, string(text), now, "this version of Go tells the time otherwise")
	clock := strings.Replace(string(text), now, now+"\tsec += WallStep.Load()\n", 1)
	clock = strings.Replace(clock, "\nimport (\n", "\nimport (\n\t\"sync/atomic\"\n", 1) +
		"\n// WallStep is how many seconds the wall clock is off.\nvar WallStep atomic.Int64\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "time.go"), []byte(clock), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "step.go"), []byte(`package main

import (
	"os"
	"strconv"
	"strings"
	"time"
)

func init() {
	go func() {
		for ; ; time.Sleep(50 * time.Millisecond) {
			text, _ := os.ReadFile(os.Getenv("`+stepFile+`"))
			n, _ := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
			time.WallStep.Store(n)
		}
	}()
}
`), 0o600))
	main, err := filepath.Abs("../../cmd/urgentis/step.go")
	require.NoError(t, err)
	overlay, err := json.Marshal(map[string]map[string]string{"Replace": {
		source: filepath.Join(dir, "time.go"), main: filepath.Join(dir, "step.go"),
	}})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "overlay.json"), overlay, 0o600))
	out := filepath.Join(dir, "urgentis")
	said, err := exec.Command("go", "build", "-overlay", filepath.Join(dir, "overlay.json"), "-o", out,
		"urgentis/cmd/urgentis").CombinedOutput()
	require.NoError(t, err, "%s", said)
	return out
}
