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
	"sync"
	"time"

	"github.com/gliderlabs/ssh"
	xssh "golang.org/x/crypto/ssh"

	"urgentis/core/flow"
	"urgentis/core/task"
	"urgentis/internal/act"
	ourssh "urgentis/internal/act/ssh"
)

const (
	wideTargets = 200
	widePort    = 2230
)

// wide compares one look on 200 targets over SSH with OpenSSH's client under xargs -P 32.
func (b *bench) wide() error {
	if _, err := exec.LookPath("ssh"); err != nil {
		b.rows = append(
			b.rows,
			figure{"a look on 200 SSH targets", "not measured", "OpenSSH's client is not here", verdict(false)},
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
		addr := fmt.Sprintf("127.0.70.%d", i+1)
		l, err := net.Listen("tcp", fmt.Sprintf("%s:%d", addr, widePort))
		if err != nil {
			return err
		}
		go srv.Serve(l) //nolint:errcheck // it ends with Close
		list = append(list, addr)
		fmt.Fprintf(&known, "[%s]:%d %s\n", addr, widePort, pinned)
	}
	hand := ourssh.New(func(context.Context, task.Facts) (string, []byte, error) { return "ssh-key", clientPEM, nil })
	defer hand.Close()
	cold, err := b.look(hand, list, pinned)
	if err != nil {
		return err
	}
	warm, err := b.look(hand, list, pinned)
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
			"a look on 200 SSH targets, cold",
			ms(cold),
			fmt.Sprintf("%s (a third of ssh under xargs -P 32, %s)", ms(theirs/3), ms(theirs)),
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

func (b *bench) look(hand *ourssh.Hand, list []string, pinned string) (time.Duration, error) {
	begin := time.Now()
	var wg sync.WaitGroup
	failed := make(chan string, len(list))
	for i, addr := range list {
		wg.Go(func() {
			r := hand.Do(
				b.ctx,
				act.Job{
					Attempt: fmt.Sprint("w", i),
					Request: task.Request{Kind: "ssh", Words: []string{"true"}, Timeout: 60,
						Target: task.Facts{
							Name:    addr,
							Address: addr,
							Port:    widePort,
							Account: "ops",
							HostKey: pinned,
							Secret:  "k@1",
						}},
				},
			)
			if r.State != flow.OK {
				failed <- r.Error
			}
		})
	}
	wg.Wait()
	took := time.Since(begin)
	select {
	case why := <-failed:
		return 0, fmt.Errorf("a look failed: %s", why)
	default:
		return took, nil
	}
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
		"32",
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
