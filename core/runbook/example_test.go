package runbook_test

import (
	"fmt"

	"urgentis/core/runbook"
)

const lamp = `urgentis: runbook/1
name: quay-lamp
title: A lamp on the quay is dark
owner: quayside
service: quay-lights
steps:
  - look: What does it say?
    id: state
    where: {role: lamp}
    run: [lampctl, state]
    read:
      state: {whole: true, type: text}
  - change: Switch it on
    id: on
    where: {role: lamp}
    run: [lampctl, "on"]
  - check: Is it on?
    proves: on
    retake: state
    that: max(readings.state) == 'on'
  - close: repaired
    because: It shines again.
`

// What is sound becomes a book; its steps, their places and the ways on are known without a run.
func ExampleParse() {
	book, findings := runbook.Parse([]byte(lamp))
	if findings.Failed() {
		fmt.Println(findings.Format("quay-lamp.yaml", []byte(lamp)))
		return
	}
	fmt.Println(book.Name, "of", book.Service)
	for _, s := range book.Steps {
		fmt.Println(s.Path, s.Verb, s.Title)
	}
	// Output:
	// quay-lamp of quay-lights
	// 1 look What does it say?
	// 2 change Switch it on
	// 3 check Is it on?
	// 4 close repaired
}

// A mistake is said once, at its place, with what was probably meant.
func ExampleParse_mistake() {
	_, findings := runbook.Parse([]byte(`urgentis: runbook/1
name: quay-lamp
title: A lamp on the quay is dark
owner: quayside
service: quay-lights
steps:
  - look: What does it say?
    run: lampctl state
`))
	for _, f := range findings {
		fmt.Println(f.Line, f.Message)
	}
	// Output:
	// 8 run is a list of words, as in run: [lampctl, state]; a line of a shell stands in script
}
