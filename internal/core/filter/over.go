package filter

import (
	"ambercellar/internal/core/value"
)

// Bound is what is known of a column's values in some rows: that they lie between two values, both among them or not,
// and whether some may be NULL.
type Bound struct {
	Least, Greatest value.Value
	Nulls           bool
	Known           bool // false: nothing is known
}

const anything = False | Unknown | True

// Over says what the filter may be for rows of which bounds alone are known, as the set of all that it can be. Where
// True is not among them, no such row is wanted. bound is asked for columns by their index.
func (f *Filter) Over(bound func(index int) Bound) Truth { return over(f.root, bound) }

func over(n node, bound func(int) Bound) Truth {
	switch x := n.(type) {
	case *and:
		out := True
		for _, p := range x.parts {
			out = conjunction[out][over(p, bound)]
		}
		return out
	case *or:
		out := False
		for _, p := range x.parts {
			out = disjunction[out][over(p, bound)]
		}
		return out
	case *not:
		return negation[over(x.part, bound)]
	case *Constant:
		return truth(x.Value)
	case *IsNull:
		if b := boundOf(&x.Left, bound); b.Known && !b.Nulls {
			return truth(x.Not)
		}
		return False | True
	case *Compare:
		return spanned(boundOf(&x.Left, bound), x.Op, x.Right.Value)
	case *In:
		b, out := boundOf(&x.Left, bound), False
		for i := range x.List {
			out = disjunction[out][spanned(b, Equal, x.List[i].Value)]
		}
		return negatedIf(x.Not, out)
	case *Between:
		b := boundOf(&x.Left, bound)
		return negatedIf(x.Not, conjunction[spanned(b, GreaterEqual, x.Low.Value)][spanned(b, LessEqual,
			x.High.Value)])
	}
	return anything
}

// boundOf leaves out columns whose values a filter compares otherwise than by their order in storage.
func boundOf(r *Ref, bound func(int) Bound) Bound {
	if r.Index < 0 || r.Column.Padded() {
		return Bound{}
	}
	return bound(r.Index)
}

// spanned is what a comparison with a literal can be for values within bounds.
func spanned(b Bound, op Op, lit value.Value) Truth {
	if !b.Known {
		return anything
	}
	low, ok1 := compare(b.Least, lit)
	high, ok2 := compare(b.Greatest, lit)
	if !ok1 || !ok2 {
		return anything
	}
	var out Truth
	for sign := -1; sign <= 1; sign++ {
		if low <= sign && sign <= high { // signs run from that of the least value to that of the greatest
			out |= truth(op.Holds(sign))
		}
	}
	if b.Nulls {
		out |= Unknown
	}
	return out
}

// Among returns the values one of which a column, by its index, has in every row for which the filter is true; false
// where it may have others.
func (f *Filter) Among(index int) (values []value.Value, ok bool) { return among(f.root, index) }

func among(n node, index int) (out []value.Value, ok bool) {
	switch x := n.(type) {
	case *and:
		for _, p := range x.parts {
			if v, one := among(p, index); one && (!ok || len(v) < len(out)) {
				out, ok = v, true
			}
		}
		return out, ok
	case *or:
		for _, p := range x.parts {
			v, one := among(p, index)
			if !one {
				return nil, false
			}
			out = append(out, v...)
		}
		return out, len(x.parts) > 0
	case *Compare:
		if x.Op == Equal && names(&x.Left, index) {
			return []value.Value{x.Right.Value}, true
		}
	case *In:
		if !x.Not && names(&x.Left, index) {
			for i := range x.List {
				out = append(out, x.List[i].Value)
			}
			return out, len(out) > 0
		}
	}
	return nil, false
}

// names says whether a reference is to a column whose values are equal only where they are the same.
func names(r *Ref, index int) bool {
	return r.Index == index && (r.Column.Kind == value.Int || r.Column.Kind == value.UUID ||
		r.Column.Kind == value.Bytes || r.Column.Kind == value.Text && !r.Column.Padded())
}
