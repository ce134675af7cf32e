package app_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/access"
	"urgentis/internal/app"
)

const sending = `urgentis: runbook/1
name: sends
title: Sends
owner: o
service: north
starts:
  any: {alert: "true"}
steps:
  - look: What the store says
    http: {url: "https://store.merrow.example/x", headers: {Authorization: "Bearer {{ secrets.tok }}"}}
    read: {n: {json: .n, type: integer}}
  - close: false-alarm
    because: It was looked at.
`

// An author cannot have secrets sent anywhere by a text that starts by itself: what hands out a secret anew, or to
// another place, an administrator pushes. What stays as it was an author may push on.
func TestASecretIsHandedOutByAnAdministratorsYes(t *testing.T) {
	a := open(t)
	anna := &access.Principal{Name: "anna", Roles: []access.Role{access.Author}, Person: true}
	_, err := a.SetSecret(ctx, iva, "tok", "text", []byte("hunter22"))
	require.NoError(t, err)
	const says = "hands out the secret tok, which the text before did not, or not so: an administrator must push it"
	push := func(who *access.Principal, text string) error {
		_, one := a.PushRunbook(ctx, who, text)
		_, two := a.Push(ctx, who, pushing(text))
		assert.Equal(t, one == nil, two == nil, "by both doors: %v, %v", one, two)
		return two
	}
	assert.ErrorContains(t, push(anna, sending), says)
	require.NoError(t, push(iva, sending))
	require.NoError(t, push(anna, strings.Replace(sending, "It was looked at.", "All is well.", 1)))
	for _, other := range []string{
		strings.Replace(sending, "store.merrow", "attacker", 1),
		strings.Replace(sending, "headers: {", "headers: {X-A: \"{{ secrets.tok }}\", ", 1),
		strings.Replace(sending, "https://store.merrow.example/x", "https://store.merrow.example/other", 1),
	} {
		assert.ErrorContains(t, push(anna, other), says, other)
	}
	watch := strings.NewReplacer("urgentis: runbook/1\nname: sends\ntitle: Sends\nowner: o\nservice: north\nstarts:\n"+
		"  any: {alert: \"true\"}\nsteps:", "urgentis: watch/1\nname: sends\nservice: north\nevery: 1m\nlooks:",
		"  - close: false-alarm\n    because: It was looked at.\n", "").Replace(sending)
	_, err = a.Push(ctx, anna, app.Pushing{Files: pushing(watch).Files})
	assert.ErrorContains(t, err, says)
	_, err = a.Push(ctx, iva, pushing(watch))
	require.NoError(t, err)
	_, err = a.Push(ctx, anna, pushing(strings.Replace(watch, "every: 1m", "every: 2m", 1)))
	require.NoError(t, err)
}
