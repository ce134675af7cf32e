package incident

import "time"

// PastContent is what outside stores have of the time around an incident, as core/lookback reads it.
type PastContent struct {
	LookBack string    `json:"lookback"`
	Title    string    `json:"title"`
	From     time.Time `json:"from"`
	Until    time.Time `json:"until"`
	// Onset is when what it is about began.
	Onset  time.Time   `json:"onset"`
	Series []PastLine  `json:"series"`
	Shapes []LineShape `json:"shapes"`
	// More is how many lines and shapes there were beyond what is kept.
	More int `json:"more,omitempty"`
	// Missing says what could not be had, and why.
	Missing []string `json:"missing,omitempty"`
}

// PastLine is one line of a series.
type PastLine struct {
	Name   string      `json:"name"`
	Unit   string      `json:"unit,omitempty"`
	Good   string      `json:"good,omitempty"`
	Target string      `json:"target,omitempty"`
	Points []PastPoint `json:"points"`
}

// PastPoint is a number at a time.
type PastPoint struct {
	At    time.Time `json:"at"`
	Value float64   `json:"value"`
}

// LineShape is lines of logs that differ in numbers and names only.
type LineShape struct {
	// Text is a line with marks in the place of what differs, Example one as it was.
	Text    string `json:"text"`
	Example string `json:"example"`
	Count   int    `json:"count"`
	// Before and Since are how many of them were written before the onset and since, where lines say when.
	Before  int      `json:"before"`
	Since   int      `json:"since"`
	Targets []string `json:"targets,omitempty"`
}
