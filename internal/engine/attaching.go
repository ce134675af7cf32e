package engine

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"urgentis/core/flow"
	"urgentis/core/task"
	"urgentis/internal/act"
	"urgentis/internal/secret"
	"urgentis/internal/store"
)

// attaching makes a file of the record of what an attempt prints, as it comes, without the values that are to be
// hidden.
type attaching struct {
	tx     *store.Tx
	mu     sync.Mutex // a daemon that was left behind goes on printing
	over   bool
	file   *store.FileWriter
	hidden *secret.Stream
	failed error
}

// attaching begins the file that a request wants; nil where it wants none, or belongs to no record.
func (e *Engine) attaching(ctx context.Context, run *store.Run, req task.Request, values []string) (*attaching, error) {
	if req.Attach == "" || run.Incident == nil {
		return nil, nil
	}
	tx := e.Store.In(context.WithoutCancel(ctx))
	f, err := tx.NewFile(store.Attachment{ID: store.NewID("f"), Incident: *run.Incident, Kind: store.FileAttached,
		Name: req.Attach, AddedBy: "run " + run.ID, AddedAt: e.Now()})
	if err != nil {
		return nil, err
	}
	return &attaching{tx: tx, file: f, hidden: secret.NewMasker(values...).Stream()}, nil
}

// Write implements io.Writer.
func (a *attaching) Write(p []byte) (int, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.failed == nil && !a.over {
		_, a.failed = a.file.Write([]byte(a.hidden.Next(string(p))))
	}
	return len(p), a.failed
}

// end keeps the file where the attempt went well, and drops it where it did not or the file is not whole. That is the
// failure of a look; what was changed stays changed, and says what is not there.
func (a *attaching) end(res act.Result, looks bool) act.Result {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.over = true; a.failed == nil {
		_, a.failed = a.file.Write([]byte(a.hidden.Rest()))
	}
	if res.State == flow.OK && a.failed == nil {
		whole, err := a.file.Done()
		if err == nil {
			err = a.tx.SaveAttachment(whole)
		}
		if err == nil {
			res.Attached = &act.Attached{ID: whole.ID, Name: whole.Name, Size: whole.Size, Digest: whole.Digest}
			return res
		}
		a.failed = err
	}
	dropped := a.file.Drop()
	if res.State == flow.OK {
		res.Error = fmt.Sprintf("what was printed could not be kept: %s", errors.Join(a.failed, dropped))
		if looks {
			res.State = flow.Failed
		}
	}
	return res
}
