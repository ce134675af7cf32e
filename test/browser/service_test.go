package browser

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A service's page shows what it is measured against, what is read of it and what happened to it; an incident's, what
// stands around it.
func TestAServiceInTheConsole(t *testing.T) {
	w := world(t)
	p := open(t, 1280)
	gate := w.Fleet.Gates.Break()
	require.NoError(t, w.Senders.Deployed(context.Background(), "boarding-gates", "3.2.0 on "+gate, "jonas"))
	require.NoError(t, p.SignIn(w.Link, "mara", w.SignIn["mara"]))
	require.NoError(t, p.Press("4"))
	require.NoError(t, p.See("Boarding gates"))
	assert.Empty(t, axe(t, p))
	require.NoError(t, p.Click(`a[href="/services/boarding-gates"]`))
	require.NoError(t, p.See("Passengers pass the gates"))
	require.NoError(t, p.See("deployed 3.2.0 on gate-4"))
	require.NoError(t, p.See("One boarding gate"))
	require.NoError(t, p.Until("document.querySelectorAll('canvas').length >= 2"))
	assert.Empty(t, axe(t, p))
	shot(t, p, "service")
	require.NoError(t, p.Click(".lengths button:nth-child(3)"))
	require.NoError(t, p.Until("document.querySelector('.lengths [aria-pressed=true]').textContent.trim() === '1 day'"))
	require.NoError(t, p.Until("document.querySelectorAll('canvas').length >= 2"))

	require.NoError(t, p.Go(w.Link+"/incidents/1"))
	require.NoError(t, p.Click("button.v-tab:nth-of-type(3)"))
	require.NoError(t, p.See("Outlier: errors: gate-4 has 97 a minute"))
	require.NoError(t, p.See("Changed before it"))
	assert.Empty(t, axe(t, p))
	require.NoError(t, p.Theme("dark"))
	require.NoError(t, p.Go(w.Link+"/services/boarding-gates"))
	require.NoError(t, p.Until("document.querySelectorAll('canvas').length >= 2"))
	assert.Empty(t, axe(t, p))
	shot(t, p, "service-dark")
	require.NoError(t, p.Go(w.Link+"/services/nowhere"))
	require.NoError(t, p.See("There is no service nowhere."))

	phone := open(t, 390)
	require.NoError(t, phone.SignIn(w.Link, "mara", w.SignIn["mara"]))
	require.NoError(t, phone.Go(w.Link+"/services/boarding-gates"))
	require.NoError(t, phone.Until("document.querySelectorAll('canvas').length >= 2"))
	wide, err := phone.Text("String(document.documentElement.scrollWidth <= window.innerWidth)")
	require.NoError(t, err)
	assert.Equal(t, "true", wide, "nothing runs out of a phone's page")
	shot(t, phone, "service-phone")
}
