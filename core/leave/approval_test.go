package leave_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"urgentis/core/leave"
)

func TestWhoMaySayYes(t *testing.T) {
	for _, c := range []struct {
		what     string
		approval leave.Approval
		want     error
	}{
		{"anybody else", leave.Approval{Person: "mara", Requester: "iva", Author: "iva"}, nil},
		{"who asked", leave.Approval{Person: "iva", Requester: "iva"}, leave.ErrOwnRequest},
		{"who asked, and wrote it", leave.Approval{Person: "iva", Requester: "iva", Author: "iva"},
			leave.ErrOwnRequest},
		{"the author alone", leave.Approval{Person: "iva", Requester: "trigger:b/a", Author: "iva"},
			leave.ErrOnlyAuthor},
		{"who put a file there, alone", leave.Approval{Person: "iva", Requester: "r", Author: "mara",
			Senders: []string{"jonas", "iva"}}, leave.ErrOnlyAuthor},
		{"who put a file there, with another", leave.Approval{Person: "iva", Requester: "r", Author: "mara",
			Senders: []string{"iva"}, Before: []string{"jonas"}, People: 2}, nil},
		{"the author as the first of two", leave.Approval{Person: "iva", Author: "iva", Requester: "r", People: 2},
			nil},
		{"the author as the second", leave.Approval{
			Person: "iva", Author: "iva", Requester: "r", Before: []string{"mara"}, People: 2}, nil},
		{"twice", leave.Approval{Person: "mara", Requester: "r", Before: []string{"mara"}, People: 2}, leave.ErrTwice},
		{"no comment", leave.Approval{Person: "mara", Requester: "r", CommentNeeded: true}, leave.ErrNoComment},
		{"a comment", leave.Approval{Person: "mara", Requester: "r", CommentNeeded: true, Comment: "seen"}, nil},
		{"an author that nobody knows", leave.Approval{Person: "mara", Requester: "r"}, nil},
	} {
		assert.ErrorIs(t, c.approval.Refused(), c.want, c.what)
	}
}
