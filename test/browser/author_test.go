package browser

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A runbook is written with its flow beside it, live both ways and by keyboard: where the text is worked on stands out
// in the flow, an alteration of the flow alters the text and can be undone like what is typed, and what is written can
// be rehearsed before it is pushed.
func TestARunbookIsWrittenWithItsFlowBeside(t *testing.T) {
	w := world(t)
	p := open(t, 1280)
	require.NoError(t, p.SignIn(w.Link, "iva", w.SignIn["iva"]))
	require.NoError(t, p.Go(w.Link+"/documents/runbook/berth-queue-backlog"))
	require.NoError(t, p.Until("document.querySelectorAll('.node.step').length > 3"))
	require.NoError(t, p.See("Nothing: this is what is in use."))
	assert.Empty(t, axe(t, p))

	// By keyboard: the button for down, from the first step on.
	require.NoError(t, p.Until("!!document.querySelector('.node.picked')"))
	require.NoError(t, p.Until("(document.querySelector('[aria-label^=\"Down\"]').focus(), true)"))
	require.NoError(t, p.Press("\r"))
	require.NoError(t, p.See("is changed"))
	require.NoError(t, p.Until("document.querySelector('.node.picked')?.textContent.includes('2 · look')"), "it is kept")
	shot(t, p, "author")

	// Undone in the text, as what is typed is.
	require.NoError(t, p.Until("(document.querySelector('.cm-content').focus(), true)"))
	require.NoError(t, p.Chord("z"))
	require.NoError(t, p.See("Nothing: this is what is in use."))

	// What cannot be altered so is said, and nothing is altered.
	require.NoError(t, p.Until("document.querySelector('.node.picked')?.textContent.includes('1 · look')"))
	require.NoError(t, p.Until("(document.querySelector('[aria-label^=\"Up\"]').focus(), true)"))
	require.NoError(t, p.Press("\r"))
	require.NoError(t, p.See("there is no step on that side of it"))
	assert.Empty(t, axe(t, p))

	press(t, p, "Rehearse")
	require.NoError(t, p.Until("document.querySelector('[role=tab][aria-selected=true]')?.innerText."+
		"trim() === 'Rehearse'"))
	fill(t, p, "Queue", "quay-north")
	require.NoError(t, p.Until(`(() => {
		const b = [...document.querySelectorAll('form.ask button[type=submit]')].find(e => !e.disabled)
		b?.focus()
		return !!b
	})()`))
	require.NoError(t, p.Press("\r"))
	require.NoError(t, p.Until("document.querySelectorAll('ol.lines li').length > 3"))
	assert.Empty(t, axe(t, p))
	shot(t, p, "rehearsal")
}
