// Package access judges who may do what to which object. It is the one place where rights are decided: the service
// asks it with the object in hand, and the console and the command line show what it says.
package access

import (
	"fmt"
	"slices"
	"strings"
)

// Role is what somebody was given, installation-wide.
type Role string

// The roles.
const (
	Viewer    Role = "viewer"    // sees
	Responder Role = "responder" // looks, answers and notes
	Operator  Role = "operator"  // starts what is allowed
	Approver  Role = "approver"  // decides gates
	Author    Role = "author"    // writes runbooks
	Admin     Role = "admin"     // does the rest
)

// Roles lists all roles.
var Roles = []Role{Viewer, Responder, Operator, Approver, Author, Admin}

// includes tells which roles come with a role.
var includes = map[Role][]Role{
	Viewer:    {Viewer},
	Responder: {Responder, Viewer},
	Operator:  {Operator, Responder, Viewer},
	Approver:  {Approver, Responder, Viewer},
	Author:    {Author, Viewer},
	Admin:     Roles,
}

// Verb is what somebody wants to do.
type Verb string

// The verbs.
const (
	See        Verb = "see"
	Respond    Verb = "respond"    // note, answer, close
	Start      Verb = "start"      // begin a run, cancel one
	Decide     Verb = "decide"     // a gate, and what a question lets happen
	Halt       Verb = "halt"       // stop all changes, and let them go on
	Write      Verb = "write"      // push, rehearse and try runbooks
	CarryOut   Verb = "carry out"  // the looks of a text that nobody has reviewed
	Administer Verb = "administer" // people, targets, secrets, connections
)

// needs tells which role a verb needs.
var needs = map[Verb]Role{
	See: Viewer, Respond: Responder, Start: Operator, Decide: Approver, Halt: Operator,
	Write: Author, CarryOut: Operator, Administer: Admin,
}

// Object is what something is done to. Where Service is "", it belongs to the installation.
type Object struct {
	Kind    string // incident, run, gate, runbook, target …
	Name    string
	Service string
}

// Installation is the object of what concerns no one service.
var Installation = Object{Kind: "installation"}

// Principal is who acts.
type Principal struct {
	Name   string
	Roles  []Role
	Person bool // false: a token
	// Machine: they act on the machine of the service itself, and need not be somebody who signs in.
	Machine bool
	// Owner is the person who made the token, and answers for it; "" for a person.
	Owner string
}

// Behind is the person who acts, or answers for the token that does.
func (p *Principal) Behind() string {
	if p.Owner != "" {
		return p.Owner
	}
	return p.Name
}

// Has reports whether the principal has a role, itself or by way of another. Nobody (nil) has none.
func (p *Principal) Has(role Role) bool {
	return p != nil && slices.ContainsFunc(p.Roles, func(r Role) bool { return slices.Contains(includes[r], role) })
}

// All lists every role that the principal has, itself or by way of another, in the order of Roles.
func (p *Principal) All() []Role {
	return slices.DeleteFunc(slices.Clone(Roles), func(r Role) bool { return !p.Has(r) })
}

// Refusal says which right is missing. It is one sentence for whoever asked.
type Refusal struct {
	Verb   Verb
	Object Object
	Role   Role // that would allow it
	// Nobody says that nobody is signed in.
	Nobody bool
}

func (r *Refusal) Error() string {
	if r.Nobody {
		return "sign in first"
	}
	return fmt.Sprintf("this needs the role %s", r.Role)
}

// Can judges whether somebody may do something to an object: nil, or a *Refusal. Nobody is nil.
func Can(p *Principal, v Verb, o Object) error {
	role, known := needs[v]
	if !known {
		return fmt.Errorf("there is no rule for %q", v)
	}
	return CanAs(p, role, v, o)
}

// CanAs is Can where what is done asks for more than its verb does: the role that it needs is given.
func CanAs(p *Principal, role Role, v Verb, o Object) error {
	if p.Has(role) {
		return nil
	}
	return &Refusal{Verb: v, Object: o, Role: role, Nobody: p == nil}
}

// Scope is which services' things somebody sees in lists.
type Scope struct {
	All      bool
	Services []string // where not All
}

// ScopeOf is what a principal sees. Roles are installation-wide: it is all or nothing.
func ScopeOf(p *Principal) Scope { return Scope{All: p.Has(needs[See])} }

// PersonWith is a person with roles, as they are kept: separated by spaces.
func PersonWith(name, roles string) *Principal {
	p := &Principal{Name: name, Person: true}
	for _, r := range strings.Fields(roles) {
		p.Roles = append(p.Roles, Role(r))
	}
	return p
}

// OnTheMachine is whoever acts on the machine of the service itself, under a name: whoever can do that may do all.
func OnTheMachine(name string) *Principal {
	return &Principal{Name: name, Roles: []Role{Admin}, Person: true, Machine: true}
}
