package ssh

import (
	"context"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/device"
	"urgentis/core/flow"
	"urgentis/core/task"
	"urgentis/internal/act"
)

// gateway is a device on a real terminal behind a real sshd: a program that shows prompts, pages, asks for a secret
// without an echo, and is entered from the shell as a mode is.
const gateway = `#!/bin/bash
lines=$(dirname "$0")/lines
mode='>'
while printf 'gw%s ' "$mode"; do
	read -r line || exit
	case $line in
	'show all') for i in $(seq 1 4); do echo "port $i up"; done
		printf -- '--more--'; stty -echo; read -rsn1; stty echo; printf '\r        \r'; echo 'port 5 d'$'\xfc''nn' ;;
	raise) stty -echo; printf 'Word: '; read -r w; stty echo; echo
		if [ "$w" = open-it ]; then mode='#'; else echo '% no'; fi ;;
	lower) mode='>' ;;
	set) mode='(set)#' ;;
	end) mode='#' ;;
	hang) echo 'working'; sleep 60 ;;
	really) printf 'Really? [y/n] '; read -r x ;;
	flood) head -c 100000000 /dev/zero | tr '\0' 'x' | fold -w 90 ;;
	bye) exit ;;
	die) kill -9 $PPID ;;
	vlan*) echo "% there is no ${line#vlan }" ;;
	*) echo "$line" >>"$lines"; echo done ;;
	esac
done
`

// onGateway makes a hand that speaks with it, a job for it, and what it was told to do.
func onGateway(t *testing.T) (*Hand, func(as string, timeout int, lines ...string) act.Job, func() string) {
	h := sshd(t)
	dir := t.TempDir()
	program := filepath.Join(dir, "gateway")
	require.NoError(t, os.WriteFile(program, []byte(gateway), 0o700)) //nolint:gosec // it is a program
	last := func(s string) *regexp.Regexp { return regexp.MustCompile(`^\s*(?:` + s + `)\s*$`) }
	kind := &device.Kind{Name: "gateway", Ready: last(`.*[$#>]`), Before: []string{program},
		More: &device.More{Seen: last(`--more--`), Type: " "}, Refused: regexp.MustCompile(`^% `), Secret: "raised",
		Settle: 150 * time.Millisecond, Leave: []string{"bye", "exit"}, Modes: map[string]*device.Mode{
			"raised": {Name: "raised", Type: "raise", Asks: last("Word:"), Ready: last("gw#"), Leave: "lower"},
			"settings": {Name: "settings", From: "raised", Type: "set", Ready: last(`gw\(set\)#`), Leave: "end",
				Alters: true},
		}}
	word := "open-it\n"
	hand := New(Config{Credential: func(_ context.Context, f task.Facts) (string, []byte, error) {
		if f.Secret == "raised@1" {
			return "password", []byte(word), nil
		}
		if f.Secret == "raised@2" {
			return "password", []byte("wrong"), nil
		}
		return "ssh-key", h.key, nil
	}, Kinds: func(context.Context, string) (*device.Kind, error) { return kind, nil }})
	t.Cleanup(hand.Close)
	facts := h.facts
	facts.Device, facts.DeviceSecret = "gateway@1", "raised@1"
	return hand, func(as string, timeout int, lines ...string) act.Job {
			return act.Job{Attempt: "r1:5:0:real:1", Request: task.Request{Kind: "ssh", Target: facts, Plain: true,
				Lines: lines, As: as, Timeout: timeout}}
		}, func() string {
			b, _ := os.ReadFile(filepath.Join(dir, "lines")) //nolint:errcheck // it may not be there
			return string(b)
		}
}

func TestADialogueOnARealTerminal(t *testing.T) {
	hand, job, told := onGateway(t)
	ctx := context.Background()

	r := hand.Do(ctx, job("", 20, "show all"))
	require.Equal(t, flow.OK, r.State, r.Error)
	assert.Equal(t, "port 1 up\nport 2 up\nport 3 up\nport 4 up\nport 5 dünn\n", r.Stdout.Text(),
		"paged, in Latin-1, without the echo")

	r = hand.Do(ctx, job("settings", 20, "port 4", "reset"))
	require.Equal(t, flow.OK, r.State, r.Error)
	assert.Equal(t, "port 4\nreset\n", told())
	assert.NotContains(t, r.Stdout.Text(), "open-it")

	r = hand.Do(ctx, job("settings", 20, "port 5", "vlan 99", "reset"))
	assert.Equal(t, flow.Failed, r.State)
	assert.Equal(t, 1, *r.Exit, "it was begun and ended badly")
	assert.Equal(t, "the device refused line 2 of 3: % there is no 99", r.Error)
	assert.Equal(t, "port 4\nreset\nport 5\n", told())

	// A command of plain words is typed as well.
	plain := job("", 20)
	plain.Request.Lines, plain.Request.Words = nil, []string{"show", "all"}
	r = hand.Do(ctx, plain)
	assert.Contains(t, r.Stdout.Text(), "port 1 up", r.Error)
}

func TestFaultsOfADialogue(t *testing.T) {
	t.Parallel()
	hand, job, told := onGateway(t)
	ctx := context.Background()
	for name, c := range map[string]struct {
		job   func() act.Job
		state string
		says  string
	}{
		"a prompt that never comes": {func() act.Job { return job("", 10, "hang") }, flow.Unknown,
			"no prompt came after line 1 of 1; its last line was empty within 10 s"},
		"a question of the device": {func() act.Job { return job("", 10, "really", "port 1") }, flow.Unknown,
			`no prompt came after line 1 of 2; its last line was "Really? [y/n]" within 10 s`},
		"a wrong secret": {func() act.Job {
			j := job("settings", 10, "port 1")
			j.Request.Target.DeviceSecret = "raised@2"
			return j
		}, flow.Failed, "real: the device did not take the mode raised: % no; nothing was begun"},
		"a mode that is not there": {func() act.Job { return job("root", 10, "port 1") }, flow.Failed,
			"real: devices of the kind gateway have no mode root: it has raised, settings"},
		"a look that would alter": {func() act.Job {
			j := job("settings", 10, "port 1")
			j.Request.Looks = true
			return j
		}, flow.Failed, "real: a look does not enter the mode settings, which is for altering"},
		"the device goes": {func() act.Job { return job("", 10, "die", "port 1") }, flow.Unknown,
			"the device ended the connection after line 1 of 2"},
		"no shell": {func() act.Job {
			j := job("", 10)
			j.Request.Lines, j.Request.Words, j.Request.Plain = nil, []string{"uptime"}, false
			return j
		}, flow.Failed, "real is a device (gateway) and has no shell: say dialogue, or words: plain"},
		"no kind": {func() act.Job {
			j := job("", 10, "port 1")
			j.Request.Target.Device = ""
			return j
		}, flow.Failed, "it is not known what kind of device real is: urgentis target set real --device KIND"},
		"not ready": {func() act.Job {
			j := job("", 10, "port 1")
			j.Ready = func(context.Context) error { return act.ErrHeld }
			return j
		}, flow.Held, ""},
	} {
		r := hand.Do(ctx, c.job())
		assert.Equal(t, c.state, r.State, "%s: %s", name, r.Error)
		if c.says != "" {
			assert.Equal(t, c.says, r.Error, name)
		}
	}
	assert.Empty(t, told(), "nothing was done")
}

// What a device floods us with is read to its end and not kept.
func TestAFloodOnADevice(t *testing.T) {
	hand, job, _ := onGateway(t)
	before := resident(t)
	r := hand.Do(context.Background(), job("", 120, "flood"))
	grown := resident(t) - before
	assert.Equal(t, flow.OK, r.State, r.Error)
	assert.Greater(t, r.Stdout.Size, int64(100_000_000))
	assert.LessOrEqual(t, r.Stdout.Len(), act.KeptOutput)
	assert.Less(t, grown, int64(64<<20))
	assert.True(t, strings.HasPrefix(r.Stdout.Text(), "xxx"))
}
