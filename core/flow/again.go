package flow

import "slices"

// LooksAgain lists, for a ground, the newest attempt of its look on each target: what is to be done to take it anew,
// with the words that the run used. None for a look that is costly, or one only by the runbook's word.
func (s *State) LooksAgain(g Ground) []Intent {
	if g.Look.Costly || g.Look.OnlyReads != "" {
		return nil
	}
	var out []Intent
	for _, a := range slices.Backward(s.order) {
		in := a.intent
		if in.Change || in.Look != g.Path ||
			slices.ContainsFunc(out, func(o Intent) bool { return o.Target == in.Target }) {
			continue
		}
		out = append(out, in)
	}
	slices.Reverse(out)
	return out
}
