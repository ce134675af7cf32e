package demo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"urgentis/api"
	"urgentis/core/access"
	"urgentis/core/cases"
	"urgentis/examples"
	"urgentis/internal/app"
	"urgentis/internal/service"
	"urgentis/internal/store"
)

// World is the service together with everything around it.
type World struct {
	*service.Instance
	Fleet *Fleet
	Fares *Fares
	Room  *Room
	Mail  *Catcher
	Texts *Catcher
	// Desk is the harbour's, Requests the line's.
	Desk, Requests *Desk
	Office         *Office
	// Past is what outside stores have of the time before.
	Past    *Past
	Monitor *Monitor
	Senders *Senders
	// SignIn gives the made-up people's passwords.
	SignIn map[string]string
	// Admin speaks to the service with all rights.
	Admin *api.ClientWithResponses
}

// People of the Merrow Line, and what they may do.
var people = []struct {
	name  string
	roles []access.Role
}{
	{"iva", []access.Role{access.Admin}},
	{"mara", []access.Role{access.Approver, access.Operator}},
	{"jonas", []access.Role{access.Responder}},
}

// services of the Merrow Line.
var services = []api.Service{
	{Name: "tide-gauges", Title: "Tide gauges", Owner: "quayside", Stance: "ask", QuietMinutes: 2},
	{Name: "fares-db", Title: "Fares database", Owner: "fares", Stance: "ask", QuietMinutes: 2},
	{Name: "berth-queue", Title: "Berth queue", Owner: "quayside", Stance: "ask", QuietMinutes: 2,
		DependsOn: []string{"tide-gauges"}, Links: []api.PageLink{
			{Title: "Charts of the queues",
				Address: "https://charts.merrow.example/{{ service }}?from={{ from }}&to={{ until }}"},
			{Title: "How berths are assigned", Address: "https://wiki.merrow.example/berths"},
		}},
	{Name: "slipway", Title: "Slipway", Owner: "quayside", Stance: "ask", QuietMinutes: 2},
	{Name: "fuel", Title: "Fuel station", Owner: "quayside", Stance: "ask", QuietMinutes: 2},
	{Name: "crossing-clocks", Title: "Crossing clocks", Owner: "signals", Stance: "ask", QuietMinutes: 2,
		Links: []api.PageLink{{Title: "Log of the time servers",
			Address: "https://logs.merrow.example/search?q=time+{{ service }}&from={{ from }}&to={{ until }}"}}},
	{Name: "boarding-gates", Title: "Boarding gates", Owner: "terminals", Stance: "ask", QuietMinutes: 2,
		DependsOn: []string{"fares-db", "crossing-clocks"}},
}

// Start brings the service, the fleet and the stand-ins up, and tells the service about them.
func Start(ctx context.Context, c service.Config, every time.Duration, say func(string)) (*World, error) {
	w := &World{SignIn: map[string]string{}}
	if err := w.start(ctx, c, every, say); err != nil {
		w.Stop() //nolint:errcheck // the first error is the one that counts
		return nil, err
	}
	return w, nil
}

func (w *World) start(ctx context.Context, c service.Config, every time.Duration, say func(string)) error {
	var err error
	if w.Fleet, err = FreeFleet(filepath.Join(c.DataDir, "fleet")); err != nil {
		return err
	}
	say(fmt.Sprintf("the fleet is up: %d hosts from %s", len(w.Fleet.Hosts), w.Fleet.Hosts[0].Address))
	// Whoever brings a database of their own may not have the programs to make another one.
	if c.Database == "" {
		if w.Fares, err = StartFares(ctx, c.DataDir, w.Fleet.Net+".20"); err != nil {
			return err
		}
		say("the fares database is up: " + w.Fares.Address)
	}
	if w.Room, err = StartRoom(fmt.Sprintf("%s.3:%d", w.Fleet.Net, HTTPPort)); err != nil {
		return err
	}
	if w.Mail, err = StartMail(fmt.Sprintf("%s.5:%d", w.Fleet.Net, HTTPPort)); err != nil {
		return err
	}
	if w.Texts, err = StartTexts(fmt.Sprintf("%s.6:%d", w.Fleet.Net, HTTPPort)); err != nil {
		return err
	}
	if w.Desk, err = StartHarbourDesk(fmt.Sprintf("%s.7:%d", w.Fleet.Net, HTTPPort)); err != nil {
		return err
	}
	if w.Requests, err = StartLineDesk(fmt.Sprintf("%s.8:%d", w.Fleet.Net, HTTPPort)); err != nil {
		return err
	}
	if w.Office, err = StartOffice(fmt.Sprintf("%s.9:%d", w.Fleet.Net, HTTPPort)); err != nil {
		return err
	}
	if w.Past, err = StartPast(fmt.Sprintf("%s.10:%d", w.Fleet.Net, HTTPPort), w.Fleet); err != nil {
		return err
	}
	c.AllowNet = append(c.AllowNet, "127.0.0.0/8")
	here := w.Fleet.Net + ".4"
	c.Hear.SyslogUDP = fmt.Sprintf("%s:%d", here, syslogPort)
	c.Hear.Traps = fmt.Sprintf("%s:%d", here, trapPort)
	c.Hear.Mail = fmt.Sprintf("%s:%d", here, mailPort)
	if w.Instance, err = service.Start(ctx, c); err != nil {
		return err
	}
	say("the service is up: " + w.Link)
	if err := w.people(ctx, filepath.Join(c.DataDir, "sign-in.json")); err != nil {
		return err
	}
	go w.Serve(ctx) //nolint:errcheck // it ends with the context
	token, err := w.setUp(ctx)
	if err != nil {
		return err
	}
	if err := w.ways(ctx); err != nil {
		return err
	}
	say("the estate, its runbooks and its people are set up")
	if err := w.senders(ctx, here); err != nil {
		return err
	}
	w.Monitor, err = StartMonitor(
		fmt.Sprintf("%s.2:%d", w.Fleet.Net, HTTPPort),
		conditions(w.Fleet, w.Fares),
		w.Link+"/in/harbour-watch",
		token,
		every,
	)
	return err
}

// senders gives the things that speak no HTTP their keys, and starts those that report by themselves.
func (w *World) senders(ctx context.Context, hear string) error {
	var deskToken string
	w.Senders = &Senders{
		tides: w.Fleet.Tides, slipway: w.Fleet.Switch, tanks: w.Fleet.Fuel,
		hear: hear,
		mast: w.Link + "/in/weather-mast",
		desk: w.Link + "/in/release-desk",
	}
	for name, key := range map[string]*string{
		"slipway-devices": &w.Senders.community, "fuel-panel": &w.Senders.fuel, "weather-mast": &w.Senders.mastToken,
		"release-desk": &w.Senders.deskToken, "desk-news": &deskToken,
	} {
		r, err := w.Admin.AddSourceWithResponse(ctx, api.NewSource{Name: name})
		if err != nil {
			return fmt.Errorf("add a source: %w", err)
		}
		if r.JSON201 == nil {
			return fmt.Errorf("add a source: %s", r.Body)
		}
		*key = r.JSON201.Token
	}
	if err := w.Room.CallBack(w.Link+"/back/quayside-room", roomSecret); err != nil {
		return err
	}
	w.Desk.Tell(w.Link+"/in/desk-news", deskToken)
	w.Fleet.Switch.OnUp(func(index int, name string) {
		w.Senders.Link(true, index, name) //nolint:errcheck // a trap that is lost is what real ones are, too
	})
	w.Senders.start()
	return nil
}

// FreeFleet starts the fleet on the first loopback network on which no other demo runs.
func FreeFleet(dir string) (*Fleet, error) {
	var first error
	for n := 10; n < 60; n++ {
		f, err := StartFleet(fmt.Sprintf("127.0.%d", n), dir)
		if err == nil {
			return f, nil
		}
		if first == nil {
			first = err
		}
	}
	return nil, first
}

// people makes the people the first time; their passwords are kept beside the data.
func (w *World) people(ctx context.Context, file string) error {
	b, err := os.ReadFile(file)
	if err == nil {
		return json.Unmarshal(b, &w.SignIn)
	}
	if !errors.Is(err, os.ErrNotExist) {
		return err
	}
	for _, p := range people {
		w.SignIn[p.name] = p.name + "-" + store.NewID("")[:10]
		if _, err := w.App.SetPerson(ctx, access.OnTheMachine("demo"), p.name, w.SignIn[p.name], p.roles); err != nil {
			return err
		}
	}
	if b, err = json.Marshal(w.SignIn); err != nil {
		return err
	}
	return os.WriteFile(file, b, 0o600)
}

// As makes a client for a role, with a token of its own.
func (w *World) As(ctx context.Context, name string, role access.Role) (*api.ClientWithResponses, error) {
	itself := access.OnTheMachine(name) // each answers for itself
	if err := w.App.RemoveToken(ctx, itself, name); err != nil && !app.IsMissing(err) {
		return nil, err
	}
	token, _, err := w.App.AddToken(ctx, itself, name, []access.Role{role}, 24*time.Hour)
	if err != nil {
		return nil, err
	}
	return Client(w.Link, token)
}

// setUp tells the service about the estate; it returns the monitor's token.
func (w *World) setUp(ctx context.Context) (string, error) {
	var err error
	if w.Admin, err = w.As(ctx, "demo-setup", access.Admin); err != nil {
		return "", err
	}
	return SetUp(
		ctx,
		w.Admin,
		w.Fleet,
		w.Fares,
		fmt.Sprintf("http://%s.2:%d/call-back", w.Fleet.Net, HTTPPort),
	)
}

// SetUp tells a service about the estate and its runbooks, as an administrator would; it returns the
// token of the source harbour-watch.
func SetUp(
	ctx context.Context,
	admin *api.ClientWithResponses,
	f *Fleet,
	fares *Fares,
	callBack string,
) (string, error) {
	type step = func() (int, []byte, error)
	secret := func(name, kind, value string) step {
		return func() (int, []byte, error) {
			return said(
				admin.SetSecretWithResponse(
					ctx,
					api.NewSecret{Name: name, Kind: api.NewSecretKind(kind), Value: value},
				),
			)
		}
	}
	target := func(t api.Target) step {
		return func() (int, []byte, error) { return said(admin.SetTargetWithResponse(ctx, nil, t)) }
	}
	steps := []step{
		secret("fleet-key", "ssh-key", f.ClientKey),
		secret("quayside_room", "text", roomSecret),
		secret("switch-raised", "password", switchWord),
	}
	for _, s := range services {
		steps = append(steps, func() (int, []byte, error) { return said(admin.SetServiceWithResponse(ctx, nil, s)) })
	}
	for _, h := range f.Hosts {
		steps = append(
			steps,
			target(api.Target{Name: h.Name, Service: h.Service, Address: h.Address, Port: SSHPort, Account: f.Account,
				Secret: "fleet-key", HostKey: h.HostKey, Labels: h.Labels, Known: h.Known}),
		)
	}
	if fares != nil {
		steps = append(
			steps,
			secret("fares_looker", "password", fares.Looker),
			secret("fares_mender", "password", fares.Mender),
			// As the runbooks of the library name them.
			secret("database_looker", "password", fares.Looker),
			secret("database_mender", "password", fares.Mender),
			target(
				api.Target{
					Name:    fares.Name,
					Service: "fares-db",
					Address: fares.Address,
					Port:    SSHPort,
					Account: f.Account,
					Labels:  map[string]string{"role": "database"},
				},
			),
		)
	}
	steps = append(steps, func() (int, []byte, error) {
		return said(admin.PushWithResponse(ctx, api.NewPush{Files: documents(f.Net), Origin: "examples/ferry"}))
	})
	for _, h := range f.Hosts {
		if h.Device != "" {
			steps = append(steps, target(api.Target{Name: h.Name, Device: h.Device}))
		}
	}
	steps = append(steps, func() (int, []byte, error) {
		return said(
			admin.SetServiceWithResponse(ctx, nil, api.Service{Name: "tide-gauges", FirstLook: "tide-gauges-look"}),
		)
	})
	for _, s := range steps {
		status, body, err := s()
		if err != nil {
			return "", fmt.Errorf("set the demo up: %w", err)
		}
		if status >= 300 {
			return "", fmt.Errorf("set the demo up: %s", body)
		}
	}
	r, err := admin.AddSourceWithResponse(ctx, api.NewSource{Name: "harbour-watch", CallBack: callBack})
	if err != nil {
		return "", fmt.Errorf("add the monitor as a source: %w", err)
	}
	if r.JSON201 == nil {
		return "", fmt.Errorf("add the monitor as a source: %s", r.Body)
	}
	return r.JSON201.Token, nil
}

// Client speaks to a service with a token.
func Client(link, token string) (*api.ClientWithResponses, error) {
	return api.NewClientWithResponses(
		link,
		api.WithRequestEditorFn(api.OnlyWhatIsSet),
		api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			r.Header.Set("Authorization", "Bearer "+token)
			return nil
		}),
	)
}

type answered interface {
	StatusCode() int
	GetBody() []byte
}

func said[R answered](r R, err error) (int, []byte, error) {
	if err != nil {
		return 0, nil, err
	}
	return r.StatusCode(), r.GetBody(), nil
}

// documents are what the Merrow Line configures as text. Where it lives on another network than the one that is
// written there, that is put into its place.
func documents(network string) []api.PushFile {
	var out []api.PushFile
	for _, folder := range []string{"readers", "devices", "connections", "teams", "runbooks", "bindings", "sources",
		"triggers", "watches", "lookbacks", "objectives"} {
		names, _ := fs.Glob(examples.Ferry, "ferry/"+folder+"/*.yaml")
		for _, n := range slices.DeleteFunc(names, cases.IsFile) {
			if b, err := fs.ReadFile(examples.Ferry, n); err == nil {
				out = append(
					out,
					api.PushFile{Name: n, Text: strings.ReplaceAll(string(b), writtenNet+".", network+".")},
				)
			}
		}
	}
	return out
}

// roomSecret is what the room signs its call-backs with.
const roomSecret = "whsec_cXVheXNpZGUtcm9vbS1xdWF5c2lkZS1yb29tLTAx" //nolint:gosec // of a stand-in on loopback

// writtenNet is the network of the Merrow Line as its documents have it.
const writtenNet = "127.0.10"

// ways are how the people of the Merrow Line want to be reached, in their order.
var ways = []struct{ person, connection, address string }{
	{"mara", "harbour-texts", "+351 900 000 001"},
	{"mara", "harbour-mail", "mara@merrow.example"},
	{"jonas", "harbour-texts", "+351 900 000 002"},
	{"iva", "harbour-mail", "iva@merrow.example"},
}

// ways adds how people are reached, and proves it by the codes that the stand-ins caught.
func (w *World) ways(ctx context.Context) error {
	for _, x := range ways {
		r, err := w.Admin.AddContactWithResponse(ctx, x.person, api.NewContact{Connection: x.connection,
			Address: x.address})
		if err != nil {
			return fmt.Errorf("add how %s is reached: %w", x.person, err)
		}
		if r.JSON201 == nil {
			if strings.Contains(string(r.Body), "already") {
				continue // the data are older than this start
			}
			return fmt.Errorf("add how %s is reached: %s", x.person, r.Body)
		}
		caught := append(w.Texts.To(x.address), w.Mail.To(x.address)...)
		if len(caught) == 0 {
			return fmt.Errorf("no code came to %s", x.address)
		}
		code := codeIn.FindString(caught[len(caught)-1].Text)
		p, err := w.Admin.VerifyContactWithResponse(ctx, x.person, r.JSON201.Id, api.Code{Code: code})
		if status, body, err := said(p, err); err != nil || status >= 300 {
			return fmt.Errorf("prove how %s is reached: %s %w", x.person, body, err)
		}
	}
	return nil
}

// codeIn finds the code in a message that carries one.
var codeIn = regexp.MustCompile(`[0-9]{6}`)

// Approve approves the oldest open gate as soon as there is one, in the name of a scripted person.
func (w *World) Approve(ctx context.Context, cl *api.ClientWithResponses, comment string) (*api.Gate, error) {
	for {
		r, err := cl.ListGatesWithResponse(ctx)
		if err != nil {
			return nil, err
		}
		if r.JSON200 != nil && len(*r.JSON200) > 0 {
			g := (*r.JSON200)[0]
			d, err := cl.DecideGateWithResponse(
				ctx,
				g.Id,
				api.Decision{Approve: true, Digest: g.Digest, Comment: comment},
			)
			if err != nil {
				return nil, err
			}
			if d.JSON200 == nil {
				return nil, fmt.Errorf("approve: %s", strings.TrimSpace(string(d.Body)))
			}
			return d.JSON200, nil
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// Stop takes everything down.
func (w *World) Stop() error {
	if w.Monitor != nil {
		w.Monitor.Stop()
	}
	if w.Senders != nil {
		w.Senders.Stop()
	}
	var err error
	if w.Instance != nil {
		err = w.Instance.Stop()
	}
	if w.Room != nil {
		w.Room.Stop()
	}
	for _, d := range []*Desk{w.Desk, w.Requests} {
		if d != nil {
			d.Stop()
		}
	}
	if w.Office != nil {
		w.Office.Stop()
	}
	if w.Past != nil {
		w.Past.Stop()
	}
	for _, c := range []*Catcher{w.Mail, w.Texts} {
		if c != nil {
			c.Stop()
		}
	}
	if w.Fares != nil {
		err = errors.Join(err, w.Fares.Stop())
	}
	if w.Fleet != nil {
		w.Fleet.Stop()
	}
	return err
}

// Trouble is something that can break at the Merrow Line.
type Trouble struct {
	Name string
	// Break breaks it and says what is broken.
	Break func(ctx context.Context) (string, error)
}

// Troubles lists what can break, in the order in which the demo plays it.
func (w *World) Troubles() []Trouble {
	list := []Trouble{
		{"queue", func(context.Context) (string, error) {
			return "the berth queue breaks at message " + w.Fleet.Queue.Break(), nil
		}},
		{"clocks", func(context.Context) (string, error) {
			return "crossing clocks get an old time server: " + strings.Join(w.Fleet.Clocks.Break(), ", "), nil
		}},
		{"gate", func(ctx context.Context) (string, error) {
			gate := w.Fleet.Gates.Break()
			return "a bad release goes to boarding " + gate, w.Senders.Deployed(
				ctx,
				"boarding-gates",
				"3.2.0 on "+gate,
				"jonas",
			)
		}},
		{"passes", func(context.Context) (string, error) {
			w.Fleet.Gates.BreakKey()
			return "the boarding gates hold an old key", nil
		}},
	}
	if w.Fares != nil {
		list = append(list, Trouble{"fares", func(ctx context.Context) (string, error) {
			n, err := w.Fares.Break(ctx)
			return fmt.Sprintf("%d booking desks go away in the middle of a booking", n), err
		}})
	}
	return append(list, w.Senders.troubles()...)
}
