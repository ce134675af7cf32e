package act

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"urgentis/core/device"
	"urgentis/core/reads"
	"urgentis/core/task"
)

// Honest keeps looks to reading: what is not known to only read is not begun, unless the target's account cannot write.
// It stands before the hands that run commands, so that runs, watches, gates, rehearsals and tries are kept alike. What
// is a look by its author's word is no look to it (task.Request.Looks is not set): others have judged that.
type Honest struct {
	Hand
	Known Known
}

// Known tells what is known when a look leaves.
type Known interface {
	// Reads is what is known to only read.
	Reads(ctx context.Context) (*reads.Set, error)
	// CannotWrite reports whether an account of a target is one that cannot write there.
	CannotWrite(ctx context.Context, target, account string) (bool, error)
	// Device reads how devices of a kind (KIND@REVISION) are spoken with.
	Device(ctx context.Context, kind string) (*device.Kind, error)
}

// Do implements Hand.
func (h Honest) Do(ctx context.Context, job Job) Result {
	if job.Request.Looks {
		if why, err := h.holds(ctx, job.Request); err != nil {
			return NotBegun("whether it only reads cannot be looked up: " + err.Error())
		} else if why != "" {
			return NotBegun(why)
		}
	}
	return h.Hand.Do(ctx, job)
}

// holds says why a look is not begun; "" where it may be.
func (h Honest) holds(ctx context.Context, r task.Request) (string, error) {
	if len(r.Words) == 0 && len(r.Lines) == 0 {
		return "", nil // a file that is fetched, or the like
	}
	v, why, err := h.judged(ctx, r)
	if err != nil || v == reads.Reads {
		return "", err
	}
	const way = "make it a change, say only_reads: \"why\", or let an administrator add what is known of it (a " +
		"document of the kind reader)"
	if v == reads.Elsewhere {
		return why + ", and it acts on other hosts, where no account of this one holds it back: " + way, nil
	}
	if r.Target.Name == "" {
		return fmt.Sprintf("%s, and on the host of the service no account does either: %s", why, way), nil
	}
	if r.As != "" && r.Target.Device == "" {
		return why + ", and as " + r.As + ", by way of sudo, it is not the account that cannot write: " + way, nil
	}
	marked, err := h.Known.CannotWrite(ctx, r.Target.Name, r.Target.Account)
	if err != nil || marked {
		return "", err
	}
	return fmt.Sprintf("%s, and nobody has said of the account by which %s is looked at that it cannot write there: "+
		"%s, or give the target such an account (urgentis target set %s --look-account … --look-cannot-write)", why,
		r.Target.Name, way, r.Target.Name), nil
}

func (h Honest) judged(ctx context.Context, r task.Request) (reads.Verdict, string, error) {
	if len(r.Lines) > 0 || r.Target.Device != "" {
		return h.typed(ctx, r)
	}
	set, err := h.Known.Reads(ctx)
	if err != nil {
		return reads.Unknown, "", err
	}
	env := slices.Sorted(maps.Keys(r.Env))
	if text, ok := task.ScriptOf(r.Words); ok {
		if set.Script(text, env) {
			return reads.Reads, "", nil
		}
		return reads.Unknown, "nothing is known of this script (" + reads.Digest(text) + ")", nil
	}
	v, why := set.Command(r.Words, env)
	return v, why, nil
}

// typed judges what is typed on a device: each line by the forms that its kind has.
func (h Honest) typed(ctx context.Context, r task.Request) (reads.Verdict, string, error) {
	if r.Target.Device == "" {
		return reads.Reads, "", nil // the hand says that it is none
	}
	kind, err := h.Known.Device(ctx, r.Target.Device)
	if err != nil {
		return reads.Unknown, "", err
	}
	set, err := reads.Lines(kind.Reads)
	if err != nil {
		return reads.Unknown, "", err
	}
	lines := r.Lines
	if len(lines) == 0 {
		lines = []string{strings.Join(r.Words, " ")}
	}
	for _, l := range lines {
		if v, _ := set.Command(strings.Fields(l), nil); v != reads.Reads {
			return reads.Unknown, fmt.Sprintf("the kind of device %s does not say that “%s” only reads (reads:)",
				kind.Name, l), nil
		}
	}
	return reads.Reads, "", nil
}
