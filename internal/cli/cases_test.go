package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// copied copies a runbook of the examples with its cases, each with something replaced.
func copied(t *testing.T, name string, replace map[string]string) string {
	dir := t.TempDir()
	for _, suffix := range []string{".yaml", ".cases.yaml"} {
		b, err := os.ReadFile("../../examples/ferry/runbooks/" + name + suffix)
		require.NoError(t, err)
		text := string(b)
		for old, now := range replace {
			text = strings.Replace(text, old, now, 1)
		}
		require.NoError(t, os.WriteFile(filepath.Join(dir, name+suffix), []byte(text), 0o600))
	}
	return filepath.Join(dir, name+".yaml")
}

func TestRunbookTest(t *testing.T) {
	home(t)
	out := ok(t, "runbook", "test", "../../examples/ferry/runbooks", "--least", "90")
	assert.Contains(t, out, "✓ berth-queue-backlog: 9 cases hold; they reach 11 of 11 steps and 8 of 8 ways")

	// Somebody turns a comparison round.
	file := copied(
		t,
		"berth-queue-backlog",
		map[string]string{"max(readings.depth) > inputs.low": "max(readings.depth) < inputs.low"},
	)
	junit := filepath.Join(t.TempDir(), "cases.xml")
	code, out, errOut := run(t, "", "runbook", "test", file, "--junit", junit, "--missed")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "it came to false-alarm, not to repaired: Depth is 2600")
	assert.Contains(t, out, "it went: look: Depth and the oldest message → ")
	assert.Contains(t, out, "not reached: line 58: 6 check: Is the queue draining?")
	assert.Contains(t, errOut, "1 of 1 runbook: their cases do not hold")
	xml, err := os.ReadFile(junit)
	require.NoError(t, err)
	assert.Contains(t, string(xml), `<testsuite name="berth-queue-backlog" tests="9"`)
	assert.Contains(t, string(xml), "it came to false-alarm, not to repaired")

	code, _, errOut = run(
		t,
		"",
		"runbook",
		"test",
		copied(t, "clocks-nightly", map[string]string{"one-silent": "one-silent:\n  x"}),
	)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "do not hold")
	code, out, _ = run(t, "", "runbook", "test", copied(t, "clocks-nightly", map[string]string{"comes_to": "come_to"}))
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "a case has no key come_to; did you mean comes_to?")
	code, _, errOut = run(t, "", "runbook", "test", copied(t, "boarding-passes-refused", nil))
	assert.Equal(t, 1, code, "what it calls is not given")
	assert.NotEmpty(t, errOut)
}

func TestLibraryWithoutAService(t *testing.T) {
	home(t)
	assert.Contains(t, ok(t, "library", "list", "--tag", "mariadb"), "mariadb-replication-stopped")
	assert.NotContains(t, ok(t, "library", "list", "certificate"), "mariadb")
	assert.Contains(t, ok(t, "library", "show", "host-disk-full"), "urgentis library bind host-disk-full")
	assert.Contains(t, ok(t, "library", "test", "node-replace"), "✓ node-replace")
	code, _, errOut := run(t, "", "library", "show", "host-disc-full")
	assert.Equal(t, 4, code)
	assert.Contains(t, errOut, "did you mean host-disk-full?")

	dir := t.TempDir()
	file := filepath.Join(dir, "ours.yaml")
	ok(t, "library", "copy", "host-disk-full", "--to", file)
	assert.Contains(t, ok(t, "runbook", "test", file), "✓")
	assert.Contains(t, ok(t, "library", "compare", file), "as it was when it was copied")
	code, _, errOut = run(t, "", "library", "copy", "host-disk-full", "--to", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "is there already; it was left as it is")
	was := filepath.Join(dir, ".ours.yaml.original")
	b, err := os.ReadFile(was)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(was, []byte(strings.Replace(string(b), "default: 90", "default: 80", 1)), 0o600))
	assert.Contains(t, ok(t, "library", "compare", file), "+  full: {type: integer, default: 90")

	bound := filepath.Join(dir, "bound.yaml")
	bind := []string{"library", "bind", "host-disk-full", "--name", "quay-disks", "--service", "berth-queue", "--owner",
		"quayside", "--to", bound}
	ok(t, append(bind, "--role", "host=consumer", "--input", "full=80")...)
	text, err := os.ReadFile(bound)
	require.NoError(t, err)
	assert.Contains(t, string(text), "full: 80")
	for flag, says := range map[string]string{"--role=hosts=x": "has no role hosts", "--input=full=101": "full: 101 is above 100",
		"--input=ful=1": "has no input ful"} {
		code, _, errOut = run(t, "", append(bind, flag)...)
		assert.Equal(t, 2, code, errOut)
		assert.Contains(t, errOut, says)
	}
}
