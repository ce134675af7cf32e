package connect

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"time"

	"urgentis/core/message"
	"urgentis/core/route"
	"urgentis/internal/store"
)

// linkLife is how long a link that was sent to somebody is worth anything.
const linkLife = 12 * time.Hour

// LinkHash is what is kept of the key of a link.
func LinkHash(key string) []byte {
	h := sha256.Sum256([]byte(key))
	return h[:]
}

// linked gives the choices of a message to a person links of their own. The key stands behind a #: it comes into no log
// on its way, and what checks links for viruses does not send it. Each try makes another one; the one before is worth
// nothing any more.
func (o *Outbox) linked(ctx context.Context, d *store.Delivery, c *message.Connection, m *message.Message) error {
	if len(m.Choices) == 0 || c.Links != message.LinksAct || d.Receiver == "" || route.Room(d.Receiver) != "" {
		return nil
	}
	raw := make([]byte, 20)
	rand.Read(raw) //nolint:errcheck // it never fails
	key := base64.RawURLEncoding.EncodeToString(raw)
	made, err := o.store.In(ctx).AddLink(&store.Link{
		Hash: LinkHash(key), Person: d.Receiver, Delivery: d.ID, Refers: m.Refers, Digest: m.Digest,
		EndsAt: o.store.Clock.Now().Add(linkLife).UTC(),
	})
	if err != nil {
		return fmt.Errorf("make a link: %w", err)
	}
	if !made {
		return nil // whoever it is for is gone; the page is there without it
	}
	for i := range m.Choices {
		m.Choices[i].Link = o.link + "/a#" + key
	}
	return nil
}
