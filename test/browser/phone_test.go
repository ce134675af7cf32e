package browser

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// wider names what makes a page wider than its window; "" where nothing does. What is wide scrolls by itself.
const wider = `(() => {
	const most = document.documentElement.clientWidth
	if (document.documentElement.scrollWidth <= most) return ''
	const scrolls = (e) => e && e !== document.body && (/(auto|scroll|hidden|clip)/.test(getComputedStyle(e).overflowX)
		|| scrolls(e.parentElement))
	return document.documentElement.scrollWidth + ' of ' + most + ': ' + [...document.querySelectorAll('body *')]
		.filter((e) => e.getBoundingClientRect().right > most + 1 && !scrolls(e.parentElement))
		.map((e) => e.tagName.toLowerCase() + '.' + [...e.classList].join('.') + ' ' +
			Math.round(e.getBoundingClientRect().right)).slice(0, 6).join(' | ')
})()`

// No page is wider than a phone: whoever is woken scrolls down, never aside.
func TestNoPageIsWiderThanAPhone(t *testing.T) {
	w := world(t)
	p, err := Open(t.Context(), 390, 844)
	require.NoError(t, err)
	t.Cleanup(p.Close)
	require.NoError(t, p.SignIn(w.Link, "iva", w.SignIn["iva"]))
	require.NoError(t, p.See("No incident is open."))
	w.Fleet.Queue.Break()
	require.NoError(t, p.See("1 waits for you"))
	for _, at := range []struct{ path, see string }{
		{"/", "Review the change"}, {"/incidents", "berth assignments wait"}, {"/incidents/1", "berthq park"},
		{"/runbooks", "berth-queue-backlog"}, {"/runbooks/berth-queue-backlog", "Park the unreadable message"},
		{"/library", "host-disk-full"}, {"/library/host-disk-full", "Make it yours"}, {"/services", "berth-queue"},
		{"/services/berth-queue", "berth-queue"}, {"/runs", "waits for approval"}, {"/triggers", "clocks-at-night"},
		{"/triggers/berth-queue-backlog.backlog", "What came of it"}, {"/sources", "harbour-watch"},
		{"/sources/harbour-watch", "harbour-watch"}, {"/documents", "quayside"}, {"/documents/team/quayside", "members"},
		{"/me", "reached"}, {"/nothing", "There is no such page"},
	} {
		t.Run(at.path, func(t *testing.T) {
			require.NoError(t, p.Go(w.Link+at.path))
			assert.NoError(t, p.See(at.see))
			found, err := p.Text(wider)
			require.NoError(t, err)
			assert.Empty(t, found)
			shot(t, p, "phone-"+strings.ReplaceAll(at.path, "/", "-"))
		})
	}
}
