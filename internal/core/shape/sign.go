package shape

import "sync/atomic"

// Sign is what a database says in few words of how a table is shaped, its columns and what refers to it. While the
// words stay, so has the shape; where they are others, the table has to be described again to know. A nil Sign says
// nothing. Several goroutines may use one.
type Sign struct{ words atomic.Pointer[string] }

// NewSign makes the sign of a table, from words that were read before the rest of its description.
func NewSign(words string) *Sign {
	s := &Sign{}
	s.words.Store(&words)
	return s
}

// Is says whether the words are still the same.
func (s *Sign) Is(words string) bool { return s == nil || *s.words.Load() == words }

// Renew takes over the words of a newer description of the same table, which was found to be shaped alike.
func (s *Sign) Renew(newer *Sign) {
	if s != nil && newer != nil {
		s.words.Store(newer.words.Load())
	}
}
