package act

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/device"
	"urgentis/core/flow"
	"urgentis/core/reads"
	"urgentis/core/task"
)

// counts is a hand that counts what it is given.
type counts struct{ n int }

func (c *counts) Do(context.Context, Job) Result { c.n++; return Done().Result() }

// hearsay is what is known, by word of mouth.
type hearsay struct {
	marked map[string]string // the account that cannot write, by target
	away   bool
}

var errAway = errors.New("the database is away")

func (w hearsay) Reads(context.Context) (*reads.Set, error) {
	if w.away {
		return nil, errAway
	}
	s := reads.Builtin()
	s.AddScript(reads.Digest("df -P /"))
	return s, nil
}

func (w hearsay) CannotWrite(_ context.Context, target, account string) (bool, error) {
	return w.marked[target] != "" && w.marked[target] == account, nil
}

func (w hearsay) Device(context.Context, string) (*device.Kind, error) {
	return &device.Kind{Name: "switch", Reads: []string{"show **"}}, nil
}

func TestALookIsKeptToReading(t *testing.T) {
	plain, marked := task.Facts{Name: "web-1", Account: "ops"}, task.Facts{Name: "web-2", Account: "viewer"}
	as := func(f task.Facts, words ...string) task.Request {
		return task.Request{Looks: true, Target: f, Words: words}
	}
	typed := func(lines ...string) task.Request {
		return task.Request{Looks: true, Target: task.Facts{Name: "sw-1", Device: "switch@1"}, Lines: lines}
	}
	preload := as(plain, "df")
	preload.Env = map[string]string{"LD_PRELOAD": "x"}
	raised := as(marked, "berthq", "depth")
	raised.As = "root"
	change := as(plain, "rm", "-rf", "/var/www")
	change.Looks = false
	for name, c := range map[string]struct {
		r    task.Request
		does bool
		says string
	}{
		"known":                        {as(plain, "systemctl", "status", "nginx"), true, ""},
		"a program that is known":      {as(plain, "systemctl", "restart", "nginx"), false, "systemctl with these words is not"},
		"find that deletes":            {as(plain, "find", "/", "-delete"), false, "find with these words"},
		"a script":                     {as(plain, "sh", "-c", "rm -rf /var/www"), false, "nothing is known of this script (sha256:"},
		"a script that is known":       {as(plain, "sh", "-c", "df -P /\n"), true, ""},
		"a script with more":           {as(plain, "sh", "-c", "df -P /; date > x"), false, "nothing is known of this script"},
		"a preload":                    {preload, false, "df with LD_PRELOAD set"},
		"nobody knows it":              {as(plain, "berthq", "depth"), false, "nobody has said of the account by which web-1"},
		"the account cannot write":     {as(marked, "berthq", "depth"), true, ""},
		"a script, it cannot write":    {as(marked, "sh", "-c", "date > x"), true, ""},
		"as somebody else, by sudo":    {raised, false, "as root, by way of sudo"},
		"another account of it":        {as(task.Facts{Name: "web-2", Account: "ops"}, "berthq"), false, "nothing is known of berthq"},
		"it acts elsewhere":            {as(marked, "docker", "rm", "-f", "x"), false, "it acts on other hosts"},
		"a post":                       {as(marked, "curl", "-X", "POST", "http://a"), false, "it acts on other hosts"},
		"on the host of the service":   {as(task.Facts{}, "berthq", "depth"), false, "on the host of the service no account does"},
		"known on the host":            {as(task.Facts{}, "df", "-P"), true, ""},
		"a change is none of it":       {change, true, ""},
		"a line that shows":            {typed("show links"), true, ""},
		"a line that does":             {typed("show links", "link x-1 down"), false, "“link x-1 down” only reads"},
		"a word filled with an option": {as(plain, "find", "/var", "-delete"), false, "find with these words"},
	} {
		h := &counts{}
		res := Honest{h, hearsay{marked: map[string]string{"web-2": "viewer"}}}.Do(context.Background(), Job{Request: c.r})
		if c.does {
			assert.Equal(t, 1, h.n, name)
			assert.Equal(t, flow.OK, res.State, name)
			continue
		}
		assert.Zero(t, h.n, name)
		assert.Contains(t, res.Error, c.says, name)
		assert.Nil(t, res.Exit, name)
	}
	h := &counts{}
	res := Honest{h, hearsay{away: true}}.Do(context.Background(), Job{Request: as(plain, "df")})
	require.Zero(t, h.n, "what cannot be looked up is not taken for known")
	assert.Contains(t, res.Error, "the database is away")
}
