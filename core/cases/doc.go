// Package cases holds runbooks to what their authors say of them: given these answers of targets and people, a run
// takes this way, asks this, changes this and ends so. Cases are played by core/flow alone, without a target, a clock
// or a service.
//
// # A stage that a file plays
//
// A case (core/cases) is a tell.Stage on which a file plays the world and the people; what it does not say of a look
// or a gate stops it. Cases stand beside a runbook and not in it, so that a new case is no new revision. cases.Of
// makes one of a log; a test makes one of every run of every shipped case, and of every run against a real server, and
// wants it to go the same way. What cases reach is counted on the runbook's picture (Been, Graph), so that whoever
// reads the picture sees what is counted. In the service, cases evaluate jq where everything does, in bounded child
// processes.
package cases
