package access_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"urgentis/core/access"
)

func TestRolesAndVerbs(t *testing.T) {
	verbs := []access.Verb{
		access.See, access.Respond, access.Start, access.Decide, access.Halt,
		access.Write, access.CarryOut, access.Administer,
	}
	may := map[access.Role][]access.Verb{
		access.Viewer:    {access.See},
		access.Responder: {access.See, access.Respond},
		access.Operator:  {access.See, access.Respond, access.Start, access.Halt, access.CarryOut},
		access.Approver:  {access.See, access.Respond, access.Decide},
		access.Author:    {access.See, access.Write},
		access.Admin:     verbs,
	}
	for role, want := range may {
		p := &access.Principal{Name: "mara", Roles: []access.Role{role}}
		for _, v := range verbs {
			err := access.Can(p, v, access.Installation)
			if slices.Contains(want, v) {
				assert.NoError(t, err, "%s %s", role, v)
				continue
			}
			var no *access.Refusal
			assert.ErrorAs(t, err, &no, "%s %s", role, v)
			assert.False(t, no.Nobody)
		}
	}
}

func TestNobodyMayNothing(t *testing.T) {
	err := access.Can(nil, access.See, access.Object{Kind: "run", Name: "r1"})
	assert.EqualError(t, err, "sign in first")
	assert.False(t, access.ScopeOf(nil).All)
	assert.Empty(t, (*access.Principal)(nil).All())
	admin := &access.Principal{Roles: []access.Role{access.Admin}}
	assert.Error(t, access.Can(admin, "rule the world", access.Installation), "what has no rule is refused")
}

func TestWhoIsBehind(t *testing.T) {
	assert.Equal(t, "mara", (&access.Principal{Name: "deploys", Owner: "mara"}).Behind())
	assert.Equal(t, "mara", (&access.Principal{Name: "mara", Person: true}).Behind())
	approver := &access.Principal{Roles: []access.Role{access.Approver}}
	assert.Equal(t, []access.Role{access.Viewer, access.Responder, access.Approver}, approver.All())
}
