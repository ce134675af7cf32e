package main

import (
	"context"
	"fmt"
	"log/slog"
	"path/filepath"

	"urgentis/core/access"
	"urgentis/core/estate"
	"urgentis/core/message"
	"urgentis/core/source"
	"urgentis/internal/act/ssh"
	"urgentis/internal/app"
	"urgentis/internal/scheduled"
	"urgentis/internal/secret"
	"urgentis/internal/signin"
	"urgentis/internal/store"
	"urgentis/internal/stories"
	"urgentis/internal/telling"
)

// noOutbox is where nothing is sent.
type noOutbox struct{}

func (noOutbox) Send(context.Context, *message.Connection, *message.Message) (string, error) {
	return "", nil
}

func (noOutbox) TryDesk(context.Context, *message.Connection, *store.Incident) (string, error) {
	return "", nil
}

const mappedSource = `urgentis: source/1
name: mapped
map:
  key: "{{ body.station }}/{{ body.what }}"
  summary: "{{ body.words }}"
  severity: {of: body.level, as: {"1": critical, "2": major}, otherwise: warning}
  service: {of: body.text, pattern: 'service=([a-z-]+)', otherwise: unknown}
  labels: {station: "{{ body.station }}", signal: "{{ body.what }}"}
cleared: body.state == "ok"
`

// mapped measures new alerts of a source with a map against those of one that sends our own JSON, each proven by its
// token: all the way from the body of a request to the disk. They take turns, so that both have the same machine.
func (b *bench) mapped() error {
	a, stop, err := b.app()
	if err != nil {
		return err
	}
	defer stop()
	root := access.OnTheMachine("bench")
	_, err = a.Push(b.ctx, root, app.Pushing{Files: []estate.File{{Name: "mapped.yaml", Text: mappedSource}}})
	if err != nil {
		return err
	}
	rate := map[string]float64{}
	bodies := map[string]string{
		"own": `{"key": "%s/depth", "severity": "major", "summary": "812 wait", "service": "berths",
			"labels": {"station": "%[1]s", "signal": "depth"}}`,
		"mapped": `{"station": "%s", "what": "depth", "words": "812 wait", "level": 2, "text": "x service=berths",
			"state": "bad"}`,
	}
	for turn := range 4 {
		name := []string{"own", "mapped"}[turn%2]
		token, err := a.AddSource(b.ctx, root, app.NewKey{Source: name})
		if err != nil {
			return err
		}
		proof := app.Proof{Authorization: "Bearer " + token.Token}
		got, err := clients(func(client, i int) error {
			body := fmt.Sprintf(bodies[name], fmt.Sprintf("s%d-%d-%d", turn, client, i))
			_, err := a.TakeAlerts(b.ctx, name, proof, source.Payload{
				ContentType: "application/json", Body: []byte(body)})
			return err
		})
		if err != nil {
			return err
		}
		rate[name] += got / 2
	}
	share := rate["mapped"] / rate["own"]
	b.rows = append(b.rows, figure{
		"new alerts a second of a source with a map, 32 clients", fmt.Sprintf("%.0f", rate["mapped"]),
		fmt.Sprintf("%.0f (0.8 of our own JSON)", 0.8*rate["own"]), verdict(share >= 0.8),
	})
	return b.clear()
}

// app makes use cases whose engine drives nothing.
func (b *bench) app() (*app.App, func(), error) {
	log := slog.New(slog.DiscardHandler)
	e, err := b.engine(nil, false)
	if err != nil {
		return nil, nil, err
	}
	in, err := b.intakeFor(e)
	if err != nil {
		return nil, nil, err
	}
	box, err := secret.OpenFor(b.ctx, b.store, filepath.Join(b.dir, "seal.key"))
	if err != nil {
		return nil, nil, err
	}
	keeper := &secret.Keeper{Store: b.store, Box: box}
	looker, err := scheduled.New(e)
	if err != nil {
		return nil, nil, err
	}
	a, err := app.New(app.Config{
		Store: b.store, Engine: e, Teller: &telling.Teller{Engine: e, Stories: stories.New()}, Looker: looker,
		Intake:   in,
		Stories:  stories.New(),
		Accounts: signin.New(b.store), Secrets: keeper, SSH: ssh.New(ssh.Config{Credential: keeper.Credential}),
		Outbox: noOutbox{}, Log: log, Link: "http://u",
	})
	return a, in.Stop, err
}
