package store

import "urgentis/core/access"

// maxOpen bounds a list of gates or questions.
const maxOpen = 200

// ofScope is the condition that a gate's or a question's run is one of a scope.
func ofScope(s access.Scope) (string, []any) {
	if s.All {
		return "true", nil
	}
	return "run in (select id from run where service in ?)", []any{s.Services}
}

// open lists what is open, the oldest first.
func open[T any](tx *Tx, s access.Scope) ([]T, error) {
	where, args := ofScope(s)
	var out []T
	err := tx.db.Order("raised_at").Where("state = 'open' and "+where, args...).Limit(maxOpen).Find(&out).Error
	return out, err
}

// openOf lists what is open in an incident.
func openOf[T any](tx *Tx, incident int64) ([]T, error) {
	return list[T](tx, "raised_at", "incident = ? and state = 'open'", incident)
}

// OpenGates lists the gates that wait for a decision, the oldest first.
func (tx *Tx) OpenGates(s access.Scope) ([]Gate, error) { return open[Gate](tx, s) }

// OpenGatesOf lists those of an incident.
func (tx *Tx) OpenGatesOf(incident int64) ([]Gate, error) { return openOf[Gate](tx, incident) }

// Gate reads a gate.
func (tx *Tx) Gate(id string) (*Gate, error) { return take[Gate](tx, "id = ?", id) }

// AddGate lists a gate that was raised.
func (tx *Tx) AddGate(g *Gate) error { return tx.db.Create(g).Error }

// CloseGate says how a gate ended; by is "" where nobody decided it.
func (tx *Tx) CloseGate(id, state, by, comment string) error {
	return tx.run("update gate set state = ?, decided_by = ?, comment = ? where id = ?", state, by, comment, id)
}

// OpenQuestions lists the questions that wait for an answer, the oldest first.
func (tx *Tx) OpenQuestions(s access.Scope) ([]Question, error) { return open[Question](tx, s) }

// OpenQuestionsOf lists those of an incident.
func (tx *Tx) OpenQuestionsOf(incident int64) ([]Question, error) {
	return openOf[Question](tx, incident)
}

// Question reads a question.
func (tx *Tx) Question(id string) (*Question, error) { return take[Question](tx, "id = ?", id) }

// AddQuestion lists a question that was raised.
func (tx *Tx) AddQuestion(q *Question) error { return tx.db.Create(q).Error }

// CloseQuestion says how a question ended.
func (tx *Tx) CloseQuestion(id, state string) error {
	return tx.run("update question set state = ? where id = ?", state, id)
}

// Withdraw closes the gates and questions of a run that is over: what still waits for a person waits for nobody now.
func (tx *Tx) Withdraw(run string) error {
	if err := tx.run("update gate set state = 'withdrawn' where run = ? and state = 'open'", run); err != nil {
		return err
	}
	return tx.run("update question set state = 'withdrawn' where run = ? and state = 'open'", run)
}

// PushedBy is who pushed a revision; "" where it is not known.
func (tx *Tx) PushedBy(revision string) (string, error) {
	return one[string](tx, `select pushed_by from revision where revision = ?
		union all select pushed_by from alone where revision = ? limit 1`, revision, revision)
}
