package main

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/gliderlabs/ssh"
	xssh "golang.org/x/crypto/ssh"

	"urgentis/core/flow"
	"urgentis/core/task"
	ourssh "urgentis/internal/act/ssh"
	"urgentis/internal/engine"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

const (
	wideTargets = 2000
	widePort    = 2230
)

// wide compares one look on 200 targets over SSH with OpenSSH's client under xargs -P 50.
func (b *bench) wide() error {
	if _, err := exec.LookPath("ssh"); err != nil {
		b.rows = append(
			b.rows,
			figure{"a look on 2,000 SSH targets", "not measured", "OpenSSH's client is not here", verdict(false)},
		)
		return nil
	}
	client, clientPEM, err := newKey()
	if err != nil {
		return err
	}
	host, _, err := newKey()
	if err != nil {
		return err
	}
	srv := &ssh.Server{
		Handler:          func(s ssh.Session) { fmt.Fprintln(s, "ok") },
		PublicKeyHandler: func(_ ssh.Context, k ssh.PublicKey) bool { return ssh.KeysEqual(k, client.PublicKey()) },
	}
	srv.AddHostKey(host)
	defer srv.Close()
	pinned := strings.TrimSpace(string(xssh.MarshalAuthorizedKey(host.PublicKey())))
	var known strings.Builder
	var list []string
	for i := range wideTargets {
		addr := fmt.Sprintf("127.0.%d.%d", 70+i/200, i%200+1)
		l, err := net.Listen("tcp", fmt.Sprintf("%s:%d", addr, widePort))
		if err != nil {
			return err
		}
		go srv.Serve(l) //nolint:errcheck // it ends with Close
		list = append(list, addr)
		fmt.Fprintf(&known, "[%s]:%d %s\n", addr, widePort, pinned)
	}
	hand := ourssh.New(ourssh.Config{Credential: func(context.Context, task.Facts) (string, []byte, error) {
		return "ssh-key", clientPEM, nil
	}})
	defer hand.Close()
	if err := b.addWide(list, pinned); err != nil {
		return err
	}
	if err := b.push(wideBook); err != nil {
		return err
	}
	e, err := b.engineOf(engine.Hands{"ssh": hand})
	if err != nil {
		return err
	}
	if err := e.Start(b.ctx); err != nil {
		return err
	}
	cold, err := b.look(e)
	if err != nil {
		return err
	}
	warm, err := b.look(e)
	e.Stop()
	if err != nil {
		return err
	}
	theirs, err := b.openSSH(list, clientPEM, known.String())
	if err != nil {
		return err
	}
	b.rows = append(
		b.rows,
		figure{
			"a look on 2,000 SSH targets, cold",
			ms(cold),
			fmt.Sprintf("%s (a third of ssh under xargs -P 50, %s)", ms(theirs/3), ms(theirs)),
			verdict(cold < theirs/3),
		},
		figure{
			"the next look, over kept connections",
			ms(warm),
			fmt.Sprintf("%s (a tenth of it)", ms(theirs/10)),
			verdict(warm < theirs/10),
		},
	)
	return nil
}

func newKey() (xssh.Signer, []byte, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	block, err := xssh.MarshalPrivateKey(private, "bench")
	if err != nil {
		return nil, nil, err
	}
	text := pem.EncodeToMemory(block)
	s, err := xssh.ParsePrivateKey(text)
	return s, text, err
}

const wideBook = `urgentis: runbook/1
name: wide
title: Wide
owner: bench
service: wide
steps:
  - look: All of them
    where: {role: wide}
    run: ["true"]
  - close: false-alarm
    because: seen
`

// addWide has the service know the targets.
func (b *bench) addWide(list []string, pinned string) error {
	rows := make([]store.Target, len(list))
	for i, addr := range list {
		rows[i] = store.Target{Name: "h-" + strings.ReplaceAll(addr, ".", "-"), Service: "wide", Address: addr,
			Port: widePort, Account: "ops", HostKey: pinned, Secret: "k", Labels: store.Labels{"role": "wide"}}
	}
	return testdb.SQL(b.store).CreateInBatches(&rows, 500).Error
}

// look has a run take one look on all targets, and tells how long it took.
func (b *bench) look(e *engine.Engine) (time.Duration, error) {
	return b.runOnce(e, "wide", wideTargets)
}

// runOnce has a run of a runbook go to its end, with so many looks that went well, and tells how long it took.
func (b *bench) runOnce(e *engine.Engine, name string, looks int) (time.Duration, error) {
	rev, err := b.store.In(b.ctx).Newest(name)
	if err != nil {
		return 0, err
	}
	book, err := e.Book(b.ctx, rev.Revision)
	if err != nil {
		return 0, err
	}
	begin := time.Now()
	runs, err := e.BeginNow(b.ctx, engine.Start{Book: book, StartedBy: "bench"})
	if err != nil {
		return 0, err
	}
	for {
		var r store.Run
		if err := testdb.SQL(b.store).Where("id = ?", runs[0].ID).Take(&r).Error; err != nil {
			return 0, err
		}
		if r.EndedAt != nil {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	took := time.Since(begin)
	log, err := b.store.Log(b.ctx, runs[0].ID, 0)
	if err != nil {
		return 0, err
	}
	looked := 0
	for _, ev := range log {
		if o, ok := ev.Body.(flow.Outcome); ok {
			if looked++; o.State != flow.OK {
				return 0, fmt.Errorf("a look failed: %s", o.Error)
			}
		}
	}
	if looked != looks {
		return 0, fmt.Errorf("%d looks were taken, not %d", looked, looks)
	}
	return took, nil
}

func (b *bench) openSSH(list []string, key []byte, known string) (time.Duration, error) {
	k, h := filepath.Join(b.dir, "id"), filepath.Join(b.dir, "known_hosts")
	if err := os.WriteFile(k, key, 0o600); err != nil {
		return 0, err
	}
	if err := os.WriteFile(h, []byte(known), 0o600); err != nil {
		return 0, err
	}
	c := exec.CommandContext(
		b.ctx,
		"xargs",
		"-P",
		"50",
		"-I{}",
		"ssh",
		"-F",
		"/dev/null",
		"-p",
		fmt.Sprint(widePort),
		"-i",
		k,
		"-o",
		"UserKnownHostsFile="+h,
		"-o",
		"BatchMode=yes",
		"-o",
		"IdentitiesOnly=yes",
		"ops@{}",
		"true",
	)
	c.Stdin = strings.NewReader(strings.Join(list, "\n") + "\n")
	begin := time.Now()
	out, err := c.CombinedOutput()
	if err != nil {
		return 0, fmt.Errorf("ssh under xargs: %w: %.300s", err, out)
	}
	return time.Since(begin), nil
}
