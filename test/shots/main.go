// Command shots renews docs/screenshots from the demo's data: pages in a headless Chromium, commands in
// a terminal window. Usage: shots PROGRAM FOLDER
package main

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"urgentis/api"
	"urgentis/core/access"
	"urgentis/internal/demo"
	"urgentis/internal/service"
	"urgentis/test/browser"
)

func main() {
	if len(os.Args) != 3 {
		fmt.Fprintln(os.Stderr, "usage: shots PROGRAM FOLDER")
		os.Exit(2)
	}
	if err := all(os.Args[1], os.Args[2]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

type shooter struct {
	ctx     context.Context
	w       *demo.World
	program string
	folder  string
	home    string
	page    *browser.Page
}

func all(program, folder string) error {
	dir, err := os.MkdirTemp("", "urgentis-shots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	w, err := demo.Start(
		ctx,
		service.Config{
			DataDir: filepath.Join(dir, "d"),
			Listen:  "127.0.0.1:8471",
			Version: "0.1.0",
			Log:     slog.New(slog.DiscardHandler),
		},
		500*time.Millisecond,
		func(string) {},
	)
	if err != nil {
		return err
	}
	defer w.Stop() //nolint:errcheck // the data go away
	s := &shooter{ctx: ctx, w: w, program: program, folder: folder, home: filepath.Join(dir, "home")}
	if s.program, err = filepath.Abs(program); err != nil {
		return err
	}
	return s.story()
}

// story plays two incidents and takes the pictures where they belong.
func (s *shooter) story() error {
	mara, err := s.w.As(s.ctx, "mara-by-script", access.Approver)
	if err != nil {
		return err
	}
	s.w.Fleet.Clocks.Break()
	g, err := s.w.Approve(s.ctx, mara, "The old server again.")
	if err != nil {
		return err
	}
	if err := s.closed(g.Incident); err != nil {
		return err
	}
	if s.page, err = browser.Open(s.ctx, 1280, 800); err != nil {
		return err
	}
	defer s.page.Close()
	steps := []func() error{s.signIn, s.waiting, s.commands, s.decided, s.books, s.asking, s.bench, s.block, s.phone}
	for _, f := range steps {
		if err := f(); err != nil {
			return err
		}
	}
	return nil
}

func (s *shooter) closed(n int64) error {
	for {
		r, err := s.w.Admin.GetIncidentWithResponse(s.ctx, n, nil)
		if err != nil {
			return err
		}
		if r.JSON200 != nil && r.JSON200.Incident.State == "closed" {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
}

func (s *shooter) shoot(path, see, file string) error {
	if err := s.page.Go(s.w.Link + path); err != nil {
		return err
	}
	if err := s.page.See(see); err != nil {
		return err
	}
	return s.page.Shoot(filepath.Join(s.folder, file))
}

func (s *shooter) signIn() error {
	if err := s.page.Go(s.w.Link + "/sign-in"); err != nil {
		return err
	}
	if err := s.page.Theme("light"); err != nil {
		return err
	}
	return s.page.SignIn(s.w.Link, "mara", s.w.SignIn["mara"])
}

// waiting shows an incident whose gate waits.
func (s *shooter) waiting() error {
	s.w.Fleet.Queue.Break()
	for {
		r, err := s.w.Admin.ListGatesWithResponse(s.ctx)
		if err != nil {
			return err
		}
		if r.JSON200 != nil && len(*r.JSON200) > 0 {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	time.Sleep(6 * time.Second) // somebody is waited for, and the strip shows it
	if err := s.shoot("/", "for you", "now.png"); err != nil {
		return err
	}
	if err := s.page.Theme("dark"); err != nil {
		return err
	}
	return s.shoot("/incidents/2", "Approve on", "gate-dark.png")
}

// commands shows the terminal, as mara sees it.
func (s *shooter) commands() error {
	if err := s.command("login "+s.w.Link+" --name mara --password "+s.w.SignIn["mara"], ""); err != nil {
		return err
	}
	r, err := s.w.Admin.ListGatesWithResponse(s.ctx)
	if err != nil {
		return err
	}
	gate := (*r.JSON200)[0].Id
	for _, c := range []struct{ args, file string }{
		{"gate show " + gate, "cli-gate.png"},
		{"incident show 1", "cli-incident.png"},
		{"runbook check " + filepath.Join("test", "shots", "errors.yaml"), "cli-check.png"},
		{"live", "cli-live.png"},
	} {
		if err := s.command(c.args, c.file); err != nil {
			return err
		}
	}
	return nil
}

func (s *shooter) decided() error {
	mara, err := s.w.As(s.ctx, "mara-by-script", access.Approver)
	if err != nil {
		return err
	}
	if _, err := s.w.Approve(s.ctx, mara, "Both consumers stand at the same message."); err != nil {
		return err
	}
	if err := s.closed(2); err != nil {
		return err
	}
	if _, err := s.w.Admin.AddNoteWithResponse(s.ctx, 2, api.NewNote{Text: "The message came from the Skerry " +
		"terminal again; asked them to look at their encoder."}); err != nil {
		return err
	}
	if err := s.page.Theme("light"); err != nil {
		return err
	}
	return s.shoot("/incidents/2", "repaired", "incident.png")
}

func (s *shooter) books() error {
	if err := s.shoot("/library/host-disk-full", "Remove old files", "library.png"); err != nil {
		return err
	}
	r, err := s.w.Admin.ListRunsWithResponse(s.ctx, &api.ListRunsParams{Limit: 10})
	if err != nil {
		return err
	}
	if err := s.shoot("/runs/"+r.JSON200.Items[0].Id, "By target", "run.png"); err != nil {
		return err
	}
	if err := s.page.Go(s.w.Link + "/reports"); err != nil {
		return err
	}
	// The facts of what has just ended are gathered a moment later.
	if err := s.page.Until("document.querySelector('h1.lead')?.innerText.includes('of 2 incidents')"); err != nil {
		return err
	}
	return s.page.Shoot(filepath.Join(s.folder, "reports.png"))
}

// asking shows a question whose answer approves a change, and a runbook rehearsed against the past.
func (s *shooter) asking() error {
	mara, err := s.w.As(s.ctx, "mara-by-script", access.Approver)
	if err != nil {
		return err
	}
	s.w.Fleet.Gates.Break()
	if _, err := s.w.Approve(s.ctx, mara, "One of six."); err != nil {
		return err
	}
	for {
		q, err := mara.ListQuestionsWithResponse(s.ctx)
		if err != nil {
			return err
		}
		if q.JSON200 == nil || len(*q.JSON200) == 0 {
			time.Sleep(100 * time.Millisecond)
			continue
		}
		if err := s.shoot("/runs/"+(*q.JSON200)[0].Run, "Roll it back and put it in again",
			"question.png"); err != nil {
			return err
		}
		if _, err := mara.AnswerQuestionWithResponse(s.ctx, (*q.JSON200)[0].Id,
			api.Answer{Choice: "roll_back"}); err != nil {
			return err
		}
		break
	}
	if _, err := s.w.Approve(s.ctx, mara, "It is like its siblings."); err != nil {
		return err
	}
	if err := s.closed(3); err != nil {
		return err
	}
	if err := s.shoot("/runbooks/boarding-gate-errors", "One boarding gate", "flow.png"); err != nil {
		return err
	}
	// Whoever writes runbooks may rehearse them.
	if err := s.command("login "+s.w.Link+" --name iva --password "+s.w.SignIn["iva"], ""); err != nil {
		return err
	}
	return s.command("runbook rehearse examples/ferry/runbooks/fares-sessions-idle.yaml", "cli-rehearse.png")
}

// bench shows a source's document with a payload that could not be read, and what another one becomes.
func (s *shooter) bench() error {
	key, err := s.w.Admin.AddSourceWithResponse(s.ctx, api.NewSource{Name: "quay-panel"})
	if err != nil {
		return err
	}
	sample := `<panel quay="north" at="2031-03-01T02:10:00Z">
  <point id="ramp-2" state="alarm" code="17"><text>Ramp 2 does not come down</text></point>
  <point id="lamp-4" state="warn" code="21"/>
</panel>`
	req, err := http.NewRequestWithContext(s.ctx, http.MethodPost, s.w.Link+"/in/quay-panel", strings.NewReader(sample))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+key.JSON201.Token)
	req.Header.Set("Content-Type", "application/xml")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	res.Body.Close()
	s.page.Close()
	if s.page, err = browser.Open(s.ctx, 1280, 800); err != nil {
		return err
	}
	if err := s.page.SignIn(s.w.Link, "iva", s.w.SignIn["iva"]); err != nil {
		return err
	}
	if err := s.page.Go(s.w.Link + "/sources/quay-panel"); err != nil {
		return err
	}
	if err := s.page.See("item 2 of 2"); err != nil {
		return err
	}
	if err := s.page.Click(".acts button"); err != nil {
		return err
	}
	if err := s.page.See("cannot be read: summary"); err != nil {
		return err
	}
	if err := s.page.Shoot(filepath.Join(s.folder, "source.png")); err != nil {
		return err
	}
	if err := s.shoot("/triggers", "clocks-at-night", "triggers.png"); err != nil {
		return err
	}
	if err := s.shoot("/api/v1/incidents/2/report?form=html", "What happened", "report.png"); err != nil {
		return err
	}
	return s.service()
}

// service shows the page of a service, with what is read of it and what happened to it.
func (s *shooter) service() error {
	for _, f := range []func() error{
		func() error { return s.page.Go(s.w.Link + "/services/boarding-gates") },
		func() error { return s.page.Until("document.querySelectorAll('canvas').length > 0") },
		func() error { return s.page.See("Passengers pass the gates") },
		func() error { return s.page.Shoot(filepath.Join(s.folder, "service.png")) },
	} {
		if err := f(); err != nil {
			return err
		}
	}
	return nil
}

// block shows a gate for four hosts at once, in a step that was taken before.
func (s *shooter) block() error {
	s.page.Close()
	var err error
	if s.page, err = browser.Open(s.ctx, 1280, 800); err != nil {
		return err
	}
	if err := s.page.SignIn(s.w.Link, "mara", s.w.SignIn["mara"]); err != nil {
		return err
	}
	s.w.Fleet.Clocks.Break()
	for {
		r, err := s.w.Admin.ListGatesWithResponse(s.ctx)
		if err != nil {
			return err
		}
		if r.JSON200 != nil && len(*r.JSON200) > 0 {
			g := (*r.JSON200)[0]
			time.Sleep(8 * time.Second) // readings are taken anew meanwhile
			return s.shoot(fmt.Sprintf("/incidents/%d", g.Incident), "Exactly this would run", "gate-block.png")
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// phone shows a gate on a small screen.
func (s *shooter) phone() error {
	s.page.Close()
	var err error
	if s.page, err = browser.Open(s.ctx, 390, 844); err != nil {
		return err
	}
	s.w.Fleet.Queue.Break()
	if err := s.page.SignIn(s.w.Link, "mara", s.w.SignIn["mara"]); err != nil {
		return err
	}
	if err := s.page.See("for you"); err != nil {
		return err
	}
	return s.shoot("/incidents/2", "Approve on", "phone.png")
}

// command runs the program in a terminal window under a virtual display and takes a picture of it.
func (s *shooter) command(args, file string) error {
	env := append(os.Environ(), "HOME="+s.home, "XDG_CONFIG_HOME="+s.home, "LANG=C.UTF-8", "LC_ALL=C.UTF-8")
	if err := os.MkdirAll(s.home, 0o755); err != nil {
		return err
	}
	if file == "" {
		c := exec.CommandContext(s.ctx, s.program, strings.Fields(args)...)
		c.Env = env
		out, err := c.CombinedOutput()
		if err != nil {
			return fmt.Errorf("urgentis %s: %w: %s", args, err, out)
		}
		return nil
	}
	const display = ":97"
	x := exec.CommandContext(s.ctx, "Xvfb", display, "-screen", "0", "1280x985x24", "-nolisten", "tcp")
	if err := x.Start(); err != nil {
		return err
	}
	defer func() { x.Process.Kill(); x.Wait() }() //nolint:errcheck // it is killed
	time.Sleep(700 * time.Millisecond)
	done := filepath.Join(s.folder, ".done")
	defer os.Remove(done) //nolint:errcheck // it may not be there
	script := fmt.Sprintf("printf '$ urgentis %s\\n'; '%s' %s; : >'%s'; sleep 60", args, s.program, args, done)
	size, room := "7.5", "210x74+0+0"
	if args == "live" {
		size, room = "13", "115x42+0+0" // a list is short
	}
	term := exec.CommandContext(
		s.ctx,
		"xterm",
		"-display",
		display,
		"-fa",
		"DejaVu Sans Mono",
		"-fs",
		size,
		"-geometry",
		room,
		"-bg",
		"#10151a",
		"-fg",
		"#dfe6ec",
		"-b",
		"10",
		"-bw",
		"0",
		"-e",
		"sh",
		"-c",
		script,
	)
	term.Env = env
	if err := term.Start(); err != nil {
		return err
	}
	defer func() { term.Process.Kill(); term.Wait() }() //nolint:errcheck // it is killed
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		if args == "live" && time.Until(end) < 26*time.Second {
			break // it stays
		}
		if _, err := os.Stat(done); err == nil {
			break
		}
		if time.Now().After(end) {
			return fmt.Errorf("urgentis %s did not end", args)
		}
	}
	time.Sleep(time.Second) // the terminal draws what it has
	out, err := exec.CommandContext(s.ctx, "import", "-display", display, "-window", "root", "-depth", "8",
		"-colors", "64", filepath.Join(s.folder, file)).
		CombinedOutput()
	if err != nil {
		return fmt.Errorf("take a picture of the terminal: %w: %s", err, out)
	}
	return nil
}
