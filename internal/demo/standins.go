package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"net"
	"net/http"
	"sync"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
)

// Room is a chat room stand-in: it takes messages and shows them on a page.
type Room struct {
	URL  string
	mu   sync.Mutex
	seen map[string]bool
	list []RoomMessage
	http *http.Server
	// back is where what is pressed on a message is called back to, signed.
	back string
	sign *standardwebhooks.Webhook
	// Slowly lets it answer late.
	Slowly slowly
}

// RoomMessage is one message in the room.
type RoomMessage struct {
	At   time.Time `json:"at"`
	Text string    `json:"text"`
	Link string    `json:"link"`
	// Refers and Digest are what a press on it is about.
	Refers string `json:"refers,omitempty"`
	Digest string `json:"digest,omitempty"`
}

// CallBack lets the room call back with what is pressed on its messages.
func (r *Room) CallBack(address, secret string) error {
	hook, err := standardwebhooks.NewWebhook(secret)
	if err != nil {
		return fmt.Errorf("sign what the room calls back with: %w", err)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.back, r.sign = address, hook
	return nil
}

// Press is what somebody of the room presses on a message. It gives what the service answered.
func (r *Room) Press(who, what, about, shown string) (string, error) {
	r.mu.Lock()
	back, hook := r.back, r.sign
	r.mu.Unlock()
	body, err := json.Marshal(map[string]string{"who": who, "press": what, "about": about, "shown": shown})
	if err != nil {
		return "", err
	}
	id, at := fmt.Sprintf("press_%d", time.Now().UnixNano()), time.Now()
	signature, err := hook.Sign(id, at, body)
	if err != nil {
		return "", err
	}
	req, err := http.NewRequest(http.MethodPost, back, bytes.NewReader(body))
	if err != nil {
		return "", err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set(standardwebhooks.HeaderWebhookID, id)
	req.Header.Set(standardwebhooks.HeaderWebhookTimestamp, fmt.Sprint(at.Unix()))
	req.Header.Set(standardwebhooks.HeaderWebhookSignature, signature)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	said, err := io.ReadAll(io.LimitReader(res.Body, 64<<10))
	return string(said), err
}

// pressed is POST /press of the room's page.
func (r *Room) pressed(w http.ResponseWriter, req *http.Request) {
	said, err := r.Press(req.FormValue("who"), req.FormValue("press"), req.FormValue("about"), req.FormValue("shown"))
	if err != nil {
		said = err.Error()
	}
	r.mu.Lock()
	r.list = append(r.list, RoomMessage{At: time.Now().UTC(), Text: req.FormValue("who") + " pressed " +
		req.FormValue("press") + ": " + said})
	r.mu.Unlock()
	http.Redirect(w, req, "/", http.StatusSeeOther)
}

const maxKept = 500

// StartRoom starts the room on an address.
func StartRoom(addr string) (*Room, error) {
	r := &Room{URL: "http://" + addr, seen: map[string]bool{}}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /messages", r.post)
	mux.HandleFunc("POST /press", r.pressed)
	mux.HandleFunc("GET /messages", func(w http.ResponseWriter, _ *http.Request) { answer(w, r.Messages()) })
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) { show(w, roomPage, r.Messages()) })
	var err error
	r.http, err = serve(addr, mux, func(net.Conn) {})
	return r, err
}

func (r *Room) post(w http.ResponseWriter, req *http.Request) {
	var m RoomMessage
	if err := json.NewDecoder(io.LimitReader(req.Body, 64<<10)).Decode(&m); err != nil {
		http.Error(w, "not JSON", http.StatusBadRequest)
		return
	}
	m.At = time.Now().UTC()
	key := req.Header.Get("Idempotency-Key")
	r.keep(key, m)
	r.Slowly.wait()
	w.WriteHeader(http.StatusNoContent)
}

// keep keeps a message, once for a key.
func (r *Room) keep(key string, m RoomMessage) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.seen[key] {
		return
	}
	r.seen[key] = key != ""
	if r.list = append(r.list, m); len(r.list) > maxKept {
		r.list = r.list[1:]
	}
}

// Messages lists what was said, the newest last.
func (r *Room) Messages() []RoomMessage {
	r.mu.Lock()
	defer r.mu.Unlock()
	return append([]RoomMessage{}, r.list...)
}

// Stop ends the room.
func (r *Room) Stop() { r.http.Close() } //nolint:errcheck // it ends either way

// Monitor is a monitor stand-in: it watches conditions, reports what is bad each few seconds, and reports
// when it is over. It is told when somebody has its alert.
type Monitor struct {
	URL string
	// Every is how often it looks; a condition that stays is reported again at each fifth look.
	Every time.Duration

	intake  string
	token   string
	watched []*Condition
	mu      sync.Mutex
	log     []string
	told    []string
	http    *http.Server
	stop    context.CancelFunc
	stopped sync.WaitGroup
}

// Condition is something that a monitor watches.
type Condition struct {
	Key, Service string
	Labels       map[string]string
	// Look gives the severity ("" where all is well) and says what is to be seen. last is what was reported last.
	Look func(ctx context.Context, last string) (severity, summary string, err error)

	last  string
	since int
}

// The depths at which the monitor calls.
const (
	majorDepth    = 300
	criticalDepth = 1500
	clearDepth    = 150
)

// conditions are what is watched at the Merrow Line.
func conditions(f *Fleet, fares *Fares) []*Condition {
	health := fmt.Sprintf("http://%s:%d/health", f.Hosts[0].Address, HTTPPort)
	list := []*Condition{
		{
			Key:     f.Queue.Name + "/depth",
			Service: "berth-queue",
			Labels:  map[string]string{"signal": "queue_depth", "queue": f.Queue.Name, "quay": "north"},
			Look: func(ctx context.Context, last string) (string, string, error) {
				depth, err := depthAt(ctx, health)
				says := fmt.Sprintf("%d berth assignments wait in %s", depth, f.Queue.Name)
				switch {
				case err != nil:
					return "", "", err
				case depth > criticalDepth:
					return "critical", says, nil
				case depth > majorDepth && last != "critical":
					return "major", says, nil
				case depth < clearDepth:
					return "", says, nil
				}
				return last, says, nil
			},
		},
		{Key: "clocks/offset", Service: "crossing-clocks", Labels: map[string]string{"signal": "clock_offset"},
			Look: func(context.Context, string) (string, string, error) {
				worst := f.Clocks.Worst()
				return when(worst > 200, "minor"), fmt.Sprintf("crossing clocks are up to %.0f ms off", worst), nil
			}},
		{Key: "gates/errors", Service: "boarding-gates", Labels: map[string]string{"signal": "gate_errors"},
			Look: func(context.Context, string) (string, string, error) {
				n := f.Gates.Errors()
				return when(n > 20, "major"), fmt.Sprintf("a boarding gate answers with %d errors a minute", n), nil
			}},
		{Key: "gates/passes", Service: "boarding-gates", Labels: map[string]string{"signal": "passes_refused"},
			Look: func(context.Context, string) (string, string, error) {
				return when(f.Gates.Refusing(), "critical"), "boarding passes are refused", nil
			}},
	}
	if fares != nil {
		list = append(
			list,
			&Condition{
				Key:     "fares/idle",
				Service: "fares-db",
				Labels:  map[string]string{"signal": "idle_in_transaction"},
				Look: func(ctx context.Context, _ string) (string, string, error) {
					n, err := fares.Idle(ctx)
					return when(
							n > 1,
							"major",
						), fmt.Sprintf(
							"%d sessions sit idle in a transaction of the fares database",
							n,
						), err
				},
			},
		)
	}
	return list
}

func when(bad bool, severity string) string {
	if bad {
		return severity
	}
	return ""
}

// StartMonitor starts the monitor on an address; it watches and reports to an intake.
func StartMonitor(addr string, watched []*Condition, intake, token string, every time.Duration) (*Monitor, error) {
	m := &Monitor{URL: "http://" + addr, Every: every, watched: watched, intake: intake, token: token}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /call-back", m.callBack)
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		m.mu.Lock()
		defer m.mu.Unlock()
		show(w, monitorPage, append([]string{}, m.log...))
	})
	var err error
	if m.http, err = serve(addr, mux, func(net.Conn) {}); err != nil {
		return nil, err
	}
	var ctx context.Context
	ctx, m.stop = context.WithCancel(context.Background())
	m.stopped.Go(func() { m.watch(ctx) })
	return m, nil
}

// Stop ends the monitor.
func (m *Monitor) Stop() {
	m.stop()
	m.stopped.Wait()
	m.http.Close() //nolint:errcheck // it ends either way
}

// Told lists what the monitor was told about its alerts.
func (m *Monitor) Told() []string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return append([]string{}, m.told...)
}

func (m *Monitor) callBack(w http.ResponseWriter, req *http.Request) {
	var b struct {
		Key      string `json:"key"`
		Do       string `json:"do"`
		Incident int64  `json:"incident"`
	}
	if err := json.NewDecoder(io.LimitReader(req.Body, 64<<10)).Decode(&b); err != nil {
		http.Error(w, "not JSON", http.StatusBadRequest)
		return
	}
	m.mu.Lock()
	m.told = append(m.told, b.Do)
	m.mu.Unlock()
	m.say("told to %s %s, for incident %d", b.Do, b.Key, b.Incident)
	w.WriteHeader(http.StatusNoContent)
}

func (m *Monitor) say(format string, args ...any) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.log = append(m.log, time.Now().UTC().Format("15:04:05 MST  ")+fmt.Sprintf(format, args...))
	if len(m.log) > maxKept {
		m.log = m.log[1:]
	}
}

func (m *Monitor) watch(ctx context.Context) {
	tick := time.NewTicker(m.Every)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		for _, c := range m.watched {
			m.one(ctx, c)
		}
	}
}

func (m *Monitor) one(ctx context.Context, c *Condition) {
	severity, summary, err := c.Look(ctx, c.last)
	if err != nil {
		return
	}
	c.since++
	if severity == c.last && (severity == "" || c.since%5 != 0) {
		return
	}
	word := severity
	if word == "" {
		word = "cleared"
	}
	if err := m.report(ctx, c, word, summary); err != nil {
		m.say("could not report: %s", err)
		return
	}
	m.say("reported %s: %s", word, summary)
	c.last, c.since = severity, 0
}

func depthAt(ctx context.Context, url string) (int, error) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return 0, err
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, err
	}
	defer res.Body.Close()
	var h struct{ Depth int }
	return h.Depth, json.NewDecoder(res.Body).Decode(&h)
}

func (m *Monitor) report(ctx context.Context, c *Condition, severity, summary string) error {
	body, err := json.Marshal(
		map[string]any{
			"key":      c.Key,
			"severity": severity,
			"service":  c.Service,
			"link":     m.URL + "/",
			"summary":  summary,
			"labels":   c.Labels,
		},
	)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, m.intake, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+m.token)
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusAccepted {
		said, _ := io.ReadAll(io.LimitReader(res.Body, 1024))
		return fmt.Errorf("%s: %s", res.Status, said)
	}
	return nil
}

func show(w http.ResponseWriter, t *template.Template, v any) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	t.Execute(w, v) //nolint:errcheck // the reader is gone
}

const pageHead = `<!doctype html><html lang="en"><meta charset="utf-8"><meta http-equiv="refresh" content="2">
	<meta name="viewport" content="width=device-width">
<style>body{font:15px/1.5 system-ui,sans-serif;max-width:52rem;margin:2rem auto;padding:0 1rem;
	color:#1d2733;background:#f6f4ee}
p{margin:.2rem 0;padding:.5rem .8rem;background:#fff;border-left:3px solid #2f6f6a;white-space:pre-wrap}
	small{color:#5b6673}a{color:#20605b}h1{font-size:1.2rem}
@media(prefers-color-scheme:dark){body{background:#14181d;color:#dde3ea}p{background:#1c2229}small{color:#93a0ad}
	a{color:#7cc7c0}}</style>`

var roomPage = template.Must(
	template.New("room").Parse(pageHead + `<title>Quayside room</title><h1>Merrow Line, quayside room</h1>
{{range .}}<p><small>{{.At.Format "15:04:05 MST"}}</small>
{{.Text}}{{if .Link}}
<a href="{{.Link}}">{{.Link}}</a>{{end}}{{if .Refers}}
<form method="post" action="/press"><input type="hidden" name="about" value="{{.Refers}}">
<input type="hidden" name="shown" value="{{.Digest}}">as <select name="who" aria-label="as">
<option>@mara<option>@jonas<option>@iva</select> <button name="press" value="take">I have it</button>
{{if .Digest}}<button name="press" value="approve">Approve</button>
<button name="press" value="refuse">Refuse</button>{{end}}</form>{{end}}</p>
{{else}}<p>Nothing was said yet.</p>{{end}}`),
)

var monitorPage = template.Must(
	template.New("monitor").Parse(pageHead + `<title>Harbour watch</title><h1>Merrow Line, harbour watch</h1>
{{range .}}<p>{{.}}</p>{{else}}<p>All is well.</p>{{end}}`),
)
