package flow

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/core/task"
)

// firstLook gives the request of the first look of a runbook that was begun with one text input; "" and why where
// there is none.
func firstLook(t *testing.T, way, value string) (*task.Request, string) {
	src := header + "inputs: {v: {type: text}}\nsteps:\n  - look: It\n    where: {name: g1}\n" + way + closing
	b, f := runbook.Parse([]byte(src))
	require.False(t, f.Failed(), f.Format("x", []byte(src)))
	m := &Machine{book: b, s: newState(b)}
	now := time.Date(2031, 3, 1, 2, 0, 0, 0, time.UTC)
	_, err := m.Append(
		Event{At: now, Body: Begun{Rules: Rules, Run: "r1", Runbook: b.Name, Inputs: map[string]any{"v": value},
			Service: map[string]any{
				"name": "gates",
			}, Estate: []Target{{Name: "g1", Address: "127.0.10.1", Labels: map[string]string{"role": "gate"}}}}},
	)
	require.NoError(t, err)
	plan, err := m.Plan(now)
	require.NoError(t, err)
	if len(plan.AskLeave) > 0 {
		_, err = m.Append(plan.AskLeave[0].Given(LeaveGiven{Verdict: leave.Yes}, now))
		require.NoError(t, err)
		plan, err = m.Plan(now)
		require.NoError(t, err)
	}
	for _, e := range plan.Events {
		switch b := e.Body.(type) {
		case Intent:
			return &b.Request, ""
		case Troubled:
			return nil, b.Because
		}
	}
	return nil, ""
}

// What comes from outside becomes an argument, a bound parameter, an environment value or a JSON value, and nothing
// more.
func TestEveryWayOfDoingHandsValuesOverAsData(t *testing.T) {
	const hostile = "a'; drop table x; -- $(reboot) `id` \"\\ {{ 1 }} \u202e"
	j, err := json.Marshal(hostile)
	require.NoError(t, err)
	for way, check := range map[string]func(r *task.Request){
		"    run: [tool, \"{{ inputs.v }}\"]\n    as_data: the tool only stores it\n": func(r *task.Request) {
			assert.Equal(t, "ssh", r.Kind)
			assert.Equal(t, []string{"tool", hostile}, r.Words)
		},
		"    script: echo \"$V\"\n    interpreter: bash\n    env: {V: \"{{ inputs.v }}\"}\n    stdin: \"{{ inputs.v " +
			"}}\"\n": func(r *task.Request) {
			assert.Equal(t, hostile, r.Env["V"])
			assert.Equal(t, hostile, r.Stdin)
			assert.NotContains(t, strings.Join(r.Words, " "), "drop table")
		},
		"    http: {url: \"http://h/{{ inputs.v }}?q={{ inputs.v }}\", headers: {X-A: \"{{ inputs.v " +
			"}}\"}}\n": func(r *task.Request) {
			assert.Equal(t, "GET", r.Method)
			assert.True(t, strings.HasPrefix(r.URL, "http://h/a%27%3B%20drop%20table"), r.URL)
			assert.NotContains(t, r.URL, " ")
			assert.Equal(t, hostile, r.Headers["X-A"])
		},
		"    only_reads: it only searches\n    http: {method: POST, url: \"http://h/\", body: {deep: [{it: \"{{ " +
			"inputs.v }}\"}], n: 1}}\n": func(r *task.Request) {
			assert.JSONEq(t, `{"deep": [{"it": `+string(j)+`}], "n": 1}`, r.Body)
		},
		"    only_reads: it only searches\n    http: {method: POST, url: \"http://h/\", body: \"{{ inputs.v " +
			"}}\"}\n": func(r *task.Request) {
			assert.Equal(t, hostile, r.Body)
		},
		"    sql: {statement: \"select $1::text\", with: [\"{{ inputs.v }}\"], database: d, user: u, port: " +
			"5433}\n": func(r *task.Request) {
			assert.Equal(t, &task.Statement{Text: "select $1::text", With: []string{string(j)}, Database: "d",
				User: "u", Port: 5433}, r.SQL)
		},
		"    port: 8080\n": func(r *task.Request) { assert.Equal(t, 8080, r.Probe.Port) },
		"    name: {of: \"{{ inputs.v }}\", type: TXT}\n": func(r *task.Request) {
			assert.Equal(t,
				&task.Probe{Name: hostile, Type: "TXT"}, r.Probe)
		},
		"    echo: {count: 3}\n": func(r *task.Request) {
			assert.Equal(t, 3,
				r.Probe.Echos)
		},
		"    fetch: \"/var/log/{{ inputs.v }}\"\n": func(r *task.Request) {
			assert.Equal(t,
				[]string{"cat", "--", "/var/log/" + hostile}, r.Words)
		},
		"    run: [show]\n    words: plain\n    timeout: 500ms\n": func(r *task.Request) {
			assert.True(t, r.Plain &&
				r.Timeout == 1)
		},
	} {
		r, because := firstLook(t, way, hostile)
		if assert.NotNil(t, r, "%s: %s", way, because) {
			check(r)
		}
	}
}

// A value that cannot be handed over unharmed stops the step; nothing is sent.
func TestValuesThatCannotBeHandedOverStopTheStep(t *testing.T) {
	for _, c := range []struct{ way, value, want string }{
		{"    run: [tool, \"{{ inputs.v }}\"]\n    as_data: the tool only stores it\n", "a\x00b", "NUL"},
		{"    run: [show, \"{{ inputs.v }}\"]\n    as_data: the device only shows it\n    words: " +
			"plain\n", "two words", "would need quoting, and the target takes plain words only"},
		{"    run: [show, \"{{ inputs.v }}\"]\n    as_data: the device only shows it\n    words: " +
			"plain\n", "a;reload", "would need quoting"},
		{"    run: [show, \"{{ inputs.v }}\"]\n    as_data: the device only shows it\n    words: " +
			"plain\n", "?", "would need quoting"},
		{"    run: [show, \"{{ inputs.v }}\"]\n    as_data: the device only shows it\n    words: " +
			"plain\n", "", "would need quoting"},
		{"    run: [x]\n    env: {A: \"{{ inputs.v }}\"}\n", "one\ntwo", "env A would hold a line break"},
		{"    http: {url: \"http://h/\", headers: {X-A: \"{{ inputs.v }}\"}}\n", "a\r\nSet-Cookie: b", "header X-A " +
			"would hold a line break"},
		{"    port: \"{{ inputs.v }}\"\n", "70000", "port must be a number from 1 to 65535"},
		{"    port: \"{{ inputs.v }}\"\n", "ssh", "port must be a number from 1 to 65535"},
	} {
		r, because := firstLook(t, c.way, c.value)
		assert.Nil(t, r, c.way)
		assert.Contains(t, because, c.want, c.way)
	}
}

func TestFilesAreSentAsTheyStand(t *testing.T) {
	p := play(t, `
steps:
  - change: Text
    where: {name: g1}
    send: {to: /etc/x.conf, text: "a = $HOME\n", mode: "0640"}
  - change: Values
    where: {name: g1}
    send: {to: /etc/x.json, json: {who: "{{ alert.summary }}", n: 3}}
    undo: {run: [rm, -f, /etc/x.json]}
`+closing)
	assert.Equal(t, Done, p.run().State)
	var files []task.File
	for _, in := range find[Intent](p) {
		if in.Touches() {
			files = append(files, *in.Request.File)
		}
	}
	require.Len(t, files, 2)
	assert.Equal(t, task.File{To: "/etc/x.conf", Text: "a = $HOME\n", Mode: "0640"}, files[0])
	assert.JSONEq(t, `{"who": "s", "n": 3}`, files[1].Text)
}

// Without effects, every step on every path is rendered; what is not known yet stands as its expression.
func TestRenderShowsEveryStepOfEveryPath(t *testing.T) {
	src := header + `
parts:
  part:
    inputs: {n: {type: integer}}
    steps:
      - look: In the part
        where: {role: gate}
        run: [inner, --, "{{ inputs.n }}"]
steps:
  - look: Depth
    id: depth
    where: {name: g1}
    run: [depth]
    read: {n: {json: .n, type: integer}}
  - check: Deep?
    that: max(readings.n) > 1
    fails:
      - close: false-alarm
        because: "It is {{ max(readings.n) }}."
  - each: All
    where: {role: gate}
    steps:
      - change: Restart
        run: [restart, "{{ target.name }}", "n={{ own(readings.n) }}"]
        undo: {run: [stop, "{{ target.name }}"]}
  - look: Statement
    where: {name: g2}
    sql: {statement: "select * from [[t]]", names: {t: {is: "{{ first(readings.n) == 1 ? 'a' : 'b' }}", of: [a, b]}}, database: d, user: u}
  - look: Nowhere
    where: {role: mast}
    run: [x]
  - call: part
    inputs: {n: "4"}
finally:
  - note: Last
    text: "{{ alert.summary }}"
`
	b, f := runbook.Parse([]byte(src))
	require.False(t, f.Failed(), f.Format("x", []byte(src)))
	list, err := Render(
		b,
		Begun{
			Rules:   Rules,
			Run:     "r1",
			Runbook: b.Name,
			Inputs:  map[string]any{},
			Alert:   map[string]any{"summary": "deep"},
			Service: map[string]any{"name": "gates"},
			Estate: []Target{
				{Name: "g1", Labels: map[string]string{"role": "gate"}},
				{Name: "g2", Labels: map[string]string{"role": "gate"}},
			},
		},
		time.Now(),
	)
	require.NoError(t, err)
	got := map[string]Rendered{}
	for _, r := range list {
		got[r.Place.String()+" "+r.Target] = r
	}
	assert.Equal(t, "max(readings.n) > 1", got["2 "].Says)
	assert.Equal(t, "It is ⟨max(readings.n)⟩.", got["2.fails.1 "].Says)
	var restart Rendered
	for k, r := range got {
		if strings.HasPrefix(k, "3.") && r.Step.Title == "Restart" && r.Target == "g1" {
			restart = r
		}
	}
	require.NotNil(t, restart.Request, got)
	assert.Equal(t, []string{"restart", "g1", "n=⟨own(readings.n)⟩"}, restart.Request.Words)
	assert.Equal(t, []string{"stop", "g1"}, restart.Request.Undo.Words)
	assert.Equal(t, "select * from [[t]]", got["4 g2"].Request.SQL.Text)
	assert.Equal(t, "no target is selected", got["5 "].Says)
	assert.Equal(t, []string{"inner", "--", "4"}, got["6/1 g2"].Request.Words)
	assert.Equal(t, "deep", got["finally.1 "].Says)
}
