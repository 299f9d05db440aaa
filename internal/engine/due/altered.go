package due

import (
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
)

// AsPlanned are the related and joined tables of a rule as they were when its plan was made.
func AsPlanned(t *shape.Table, r *rule.Rule) (related, joined JoinedTables) {
	related, joined = JoinedTables{}, JoinedTables{}
	for i, x := range r.Relations() {
		if i < len(t.Related) {
			related[x.Table] = &t.Related[i]
		}
	}
	for name, x := range t.Joined {
		joined[name] = &x
	}
	return related, joined
}
