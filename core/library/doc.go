// Package library makes the runbooks that ship with the program ones of somebody's own: a binding says for which
// service a runbook is, who owns it, which targets play its roles, and with which inputs and starts.
//
// # A binding
//
// A binding is a document that makes another one: estate.Parse gives the binding and the runbook that
// core/library.Bind makes of the library's text, and everything after that (plan, rights, findings, revisions) knows
// only documents. Texts of the library are ASCII and in the canonical form, which a test holds, so that a word can be
// replaced at its place.
package library
