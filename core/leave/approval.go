package leave

import (
	"errors"
	"slices"
)

// Refusals of an approval. Each is one sentence for the person who gave it.
var (
	ErrOwnRequest = errors.New("whoever asked for a change cannot approve it")
	ErrTwice      = errors.New("this gate wants another person as well")
	ErrNoComment  = errors.New("this gate wants a comment")
	ErrOnlyAuthor = errors.New(
		"whoever wrote this revision, or put a file there that it sends, cannot be the only one to approve its " +
			"changes: another approver must")
)

// Approval is a person's approval of a change, with what it is judged by. Of a token, the person who answers for it
// counts.
type Approval struct {
	Person    string
	Requester string // who asked for the change: who began the run
	Author    string // who pushed the text that would run; "" where it is not known
	// Senders put the files into the store that would be sent: they are authors of what runs, too.
	Senders []string
	Before  []string // who approved it already
	People  int      // how many people it wants; 0 is 1
	Comment string
	// CommentNeeded says that nobody may approve it without a comment.
	CommentNeeded bool
}

// Refused says why the approval is not taken; nil where it is.
func (a Approval) Refused() error {
	switch {
	case a.Requester == a.Person:
		return ErrOwnRequest
	case slices.Contains(a.Before, a.Person):
		return ErrTwice
	case a.CommentNeeded && a.Comment == "":
		return ErrNoComment
	case a.last() && a.onlyAuthor():
		return ErrOnlyAuthor
	}
	return nil
}

// last reports whether the change may happen with this approval.
func (a Approval) last() bool { return len(a.Before)+1 >= a.People }

// onlyAuthor reports whether somebody who wrote a part of what would run is the only one to approve it.
func (a Approval) onlyAuthor() bool {
	approvers := append(slices.Clone(a.Before), a.Person)
	return slices.ContainsFunc(append(slices.Clone(a.Senders), a.Author), func(author string) bool {
		return author != "" && !slices.ContainsFunc(approvers, func(by string) bool { return by != author })
	})
}
