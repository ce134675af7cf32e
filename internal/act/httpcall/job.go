package httpcall

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"time"

	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/plain"
	"urgentis/core/reading"
	"urgentis/core/task"
	"urgentis/internal/act"
)

// Jobs starts jobs of other systems, follows them to their end with their log, and stops those that are to end.
type Jobs struct {
	allowed Allowed
	looks   *http.Client
	query   Query
}

// Query evaluates a jq expression over an answer.
type Query func(ctx context.Context, q *reading.Query, output []byte) (any, error)

// NewJobs makes a hand that reaches only these networks.
func NewJobs(a Allowed, q Query) *Jobs { return &Jobs{a, a.Client(0), q} }

// Bounds of what is asked about a job.
const (
	jobAnswer = 1 << 20          // bytes of an answer
	jobLook   = 20 * time.Second // of one request
	jobStop   = 15 * time.Second // for stopping it, and for seeing that it ended
)

// jobID is what a job may be known by: it becomes a piece of an address.
var jobID = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._:~-]{0,127}$`)

// Do implements act.Hand. What the job logs is the output.
func (h *Jobs) Do(ctx context.Context, job act.Job) act.Result {
	ctx, cancel := context.WithTimeout(ctx, time.Duration(job.Request.Timeout)*time.Second)
	defer cancel()
	f := &following{h: h, job: job.Request.Job, attempt: job.Attempt}
	sent, res := f.start(ctx, job)
	if !sent {
		return res
	}
	return f.toEnd(ctx, job).Result()
}

// Follow implements act.Follower: it looks after a job that was begun before, and begins nothing.
func (h *Jobs) Follow(ctx context.Context, job act.Job, known string, left time.Duration) act.Sent {
	ctx, cancel := context.WithTimeout(ctx, left)
	defer cancel()
	return (&following{h: h, job: job.Request.Job, attempt: job.Attempt, id: known}).toEnd(ctx, job)
}

// following is a job that is looked after.
type following struct {
	h       *Jobs
	job     *task.Job
	attempt string
	id      string
	out     io.Writer
	read    int64 // bytes of its log that were taken
	trouble error // of the last look at it
	state   string
}

// start begins the job, at most once. sent: it is known by its id; else res is the end.
func (f *following) start(ctx context.Context, job act.Job) (sent bool, res act.Result) {
	client, left := f.h.allowed.Once(job.MaySend)
	defer client.CloseIdleConnections()
	status, body, err := f.call(ctx, client, f.job.Start, 0)
	switch {
	case err != nil && !left.Load():
		return false, act.NotSent(err)
	case err != nil:
		return false, act.Unseen("whether the job was started is not known: " + err.Error()).Result()
	case !task.GoodStatus(status, nil):
		r := ended(status, nil, false)
		if r.Result().Exit != nil {
			r = r.Saying(fmt.Sprintf("the job was not started: %d %s", status, plain.Line(clip(body))))
		}
		return false, r.Result()
	}
	id, err := f.ask(ctx, f.job.ID, body)
	if err == nil && !jobID.MatchString(id) {
		err = fmt.Errorf("%q is nothing that a job could be known by", clip([]byte(id)))
	}
	if err != nil {
		return false, act.Unseen("the job was started, and what it is known by could not be read: " + err.Error()).
			Result()
	}
	f.id = id
	return true, res
}

// toEnd follows the job to its end, with its log as output.
func (f *following) toEnd(ctx context.Context, job act.Job) act.Sent {
	out, _ := act.Streams(job)
	f.out = out
	if job.Known != nil {
		job.Known(f.id)
	}
	return f.follow(ctx, job.Request, job.Leave).Printed(out.Taken(), act.Captured{})
}

// follow looks at the job until it is over. A look that fails is made again: only the time ends it.
func (f *following) follow(ctx context.Context, r task.Request, leave <-chan struct{}) act.Sent {
	every := time.NewTicker(max(time.Duration(f.job.Every)*time.Millisecond, 500*time.Millisecond))
	defer every.Stop()
	for {
		if res := f.look(ctx); res != nil {
			return *res
		}
		select {
		case <-every.C:
		case <-leave:
			return act.StillRunning("nobody here can follow it any longer")
		case <-ctx.Done():
			return f.stop(ctx, r)
		}
	}
}

// look asks how the job stands; what it gives is its end.
func (f *following) look(whole context.Context) *act.Sent {
	ctx, cancel := context.WithTimeout(whole, jobLook)
	defer cancel()
	status, body, err := f.call(ctx, f.h.looks, f.job.Follow, 0)
	if err == nil && !task.GoodStatus(status, nil) {
		err = fmt.Errorf("%d %s", status, plain.Line(clip(body)))
	}
	state := ""
	if err == nil {
		state, err = f.ask(ctx, f.job.State, body)
	}
	if err != nil && whole.Err() != nil {
		return nil // it was cut off by the end of the time, which is no trouble of the job's
	}
	f.trouble = err
	if err != nil {
		return nil
	}
	f.state = state
	f.readLog(ctx)
	switch {
	case slices.Contains(f.job.Good, state):
		r := act.Ended(0, true)
		return &r
	case slices.Contains(f.job.Bad, state):
		r := act.Ended(1, false).Saying(fmt.Sprintf("the job %s ended as %s", f.id, plain.Line(state)))
		return &r
	}
	return nil
}

// readLog takes what the job has logged since it was read last. A log that cannot be read is no trouble of the job.
func (f *following) readLog(ctx context.Context) {
	if f.job.Log == nil {
		return
	}
	status, body, err := f.call(ctx, f.h.looks, *f.job.Log, f.read)
	if err != nil {
		return
	}
	switch status {
	case http.StatusPartialContent: // from where we were
	case http.StatusOK:
		body = body[min(f.read, int64(len(body))):]
	default:
		return
	}
	f.read += int64(len(body))
	f.out.Write(body) //nolint:errcheck // it takes everything
}

// stop ends the job, where that can be asked, and looks whether it is over.
func (f *following) stop(ctx context.Context, r task.Request) act.Sent {
	why := fmt.Sprintf("the job %s did not end within %d s", f.id, r.Timeout)
	if !errors.Is(ctx.Err(), context.DeadlineExceeded) {
		why = fmt.Sprintf("the job %s did not end before it was told to stop", f.id)
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), jobStop)
	defer cancel()
	unknown := func(says string) act.Sent {
		if f.trouble != nil {
			says += "; the last look at it failed: " + f.trouble.Error()
		} else if f.state != "" {
			says += "; it was last seen as " + plain.Line(f.state)
		}
		return act.Unseen(says)
	}
	if f.job.Stop == nil {
		return unknown(why + ", and it is not said how it is stopped")
	}
	client, _ := f.h.allowed.Once(nil)
	defer client.CloseIdleConnections()
	if status, body, err := f.call(ctx, client, *f.job.Stop, 0); err != nil {
		return unknown(why + ", and could not be stopped: " + err.Error())
	} else if !task.GoodStatus(status, nil) {
		return unknown(fmt.Sprintf("%s, and could not be stopped: %d %s", why, status, plain.Line(clip(body))))
	}
	for {
		if res := f.look(ctx); res != nil {
			if res.Result().State != flow.OK {
				return res.Saying(why + " and was stopped; it ended as " + plain.Line(f.state))
			}
			return *res
		}
		select {
		case <-time.After(500 * time.Millisecond):
		case <-ctx.Done():
			return unknown(why + "; it was told to stop, and was not seen to end")
		}
	}
}

// call makes one request; from asks for what comes after so many bytes.
func (f *following) call(
	ctx context.Context, client *http.Client, c task.Call, from int64,
) (status int, body []byte, err error) {
	ofLog := f.job.Log != nil && c.URL == f.job.Log.URL && c.Method == http.MethodGet
	c.URL = strings.ReplaceAll(c.URL, task.JobMark, f.id)
	req, err := requestOf(ctx, c)
	if err != nil {
		return 0, nil, err
	}
	if c.Method != http.MethodGet {
		req.Header.Set("Idempotency-Key", f.attempt)
	}
	if from > 0 {
		req.Header.Set("Range", fmt.Sprintf("bytes=%d-", from))
	}
	res, err := client.Do(req)
	if err != nil {
		return 0, nil, err
	}
	defer res.Body.Close()
	most := int64(jobAnswer)
	if ofLog {
		most = 4 * act.KeptOutput
	}
	body, err = io.ReadAll(io.LimitReader(res.Body, most))
	return res.StatusCode, body, err
}

// ask takes a text from an answer.
func (f *following) ask(ctx context.Context, src string, body []byte) (string, error) {
	q, err := reading.CompileQuery(src)
	if err != nil {
		return "", err
	}
	v, err := f.h.query(ctx, q, body)
	if err != nil {
		return "", err
	}
	if v == nil {
		return "", fmt.Errorf("%s is nothing in the answer", src)
	}
	return expr.Say(v), nil
}

// clip is as much of an answer as a sentence holds.
func clip(b []byte) string {
	const most = 200
	b = bytes.TrimSpace(b)
	if len(b) > most {
		return string(b[:most]) + "…"
	}
	return string(b)
}
