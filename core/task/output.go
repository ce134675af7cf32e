package task

// Output is the head and the tail of what was printed; the whole is kept as an artifact if it is longer.
type Output struct {
	Head     string `json:"head,omitempty"`
	Tail     string `json:"tail,omitempty"`
	Size     int64  `json:"size"`
	Artifact string `json:"artifact,omitempty"`
	Cut      bool   `json:"cut,omitempty"` // more was printed than is kept
}
