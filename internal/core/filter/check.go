package filter

import (
	"fmt"
	"math"
	"math/big"
	"regexp"
	"strings"
	"time"

	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// Scope finds the column that a reference means, and at which index of a row its value stands; an index below 0 says
// that rows hold no value of it. A column that is not there comes back nil, with a remedy.
type Scope func(join, name string) (column *shape.Column, index int, remedy string)

// TableScope is the scope of a table's own columns: a row holds all of them, in the table's order.
func TableScope(t *shape.Table) Scope {
	return func(join, name string) (*shape.Column, int, string) {
		if join != "" {
			return nil, 0, fmt.Sprintf("the rule declares no join %s", join)
		}
		if c, i := t.Column(name); c != nil {
			return c, i, ""
		}
		if near := shape.Nearest(name, t.ColumnNames()); near != "" {
			return nil, 0, "did you mean " + near + "?"
		}
		return nil, 0, "its columns are " + strings.Join(t.ColumnNames(), ", ")
	}
}

// Bind parses a filter and checks it against the columns of a scope. Every literal gets the type of its column.
func Bind(text string, scope Scope) (*Filter, []*Error) {
	f, err := Parse(text)
	if err != nil {
		return nil, []*Error{err.(*Error)}
	}
	c := &checker{text: text, scope: scope}
	c.node(f.root)
	if len(c.errors) > 0 {
		return nil, c.errors
	}
	return f, nil
}

type checker struct {
	text   string
	scope  Scope
	errors []*Error
}

func (c *checker) fail(pos int, message, remedy string) {
	if len(c.errors) < 20 {
		c.errors = append(c.errors, &Error{Text: c.text, Pos: pos, Message: message, Remedy: remedy})
	}
}

func (c *checker) node(n node) {
	switch x := n.(type) {
	case *and:
		for _, p := range x.parts {
			c.node(p)
		}
	case *or:
		for _, p := range x.parts {
			c.node(p)
		}
	case *not:
		c.node(x.part)
	case *Compare:
		if c.ref(&x.Left) && c.literal(&x.Left, &x.Right) && classOf(x.Left.Column) == uuids && x.Op != Equal &&
			x.Op != NotEqual {
			c.fail(x.Left.pos, fmt.Sprintf("column %q holds UUIDs, which have no order", x.Left.Name),
				"compare it with = or <>, or list values with IN")
		}
	case *CompareColumns:
		if l, r := c.ref(&x.Left), c.ref(&x.Right); l && r {
			c.columns(x)
		}
	case *In:
		if c.ref(&x.Left) {
			for i := range x.List {
				c.literal(&x.Left, &x.List[i])
			}
		}
	case *Between:
		if c.ref(&x.Left) && c.literal(&x.Left, &x.Low) && c.literal(&x.Left, &x.High) &&
			classOf(x.Left.Column) == uuids {
			c.fail(x.Left.pos, fmt.Sprintf("column %q holds UUIDs, which have no order", x.Left.Name),
				"list values with IN")
		}
	case *Like:
		if c.ref(&x.Left) && classOf(x.Left.Column) != texts {
			c.fail(x.Left.pos, fmt.Sprintf("LIKE looks at text, and column %q is of type %s", x.Left.Name,
				x.Left.Column.Type), "compare it with =, < or BETWEEN")
		}
	case *IsNull:
		c.ref(&x.Left)
	case *Flag:
		if c.ref(&x.Left) && !truthy(x.Left.Column) {
			c.fail(x.Left.pos, fmt.Sprintf("column %q of type %s is no condition on its own", x.Left.Name,
				x.Left.Column.Type), "compare it with something")
		}
	}
}

func (c *checker) ref(r *Ref) bool {
	column, index, remedy := c.scope(r.Join, r.Name)
	if column == nil {
		c.fail(r.pos, fmt.Sprintf("there is no column %s", r), remedy)
		return false
	}
	r.Column, r.Index = column, index
	return true
}

// class of a column, by what it can be compared with.
type class int

const (
	nothing class = iota // IS NULL alone
	numbers
	texts
	bools
	dates
	timestamps // of a clock without zone
	instants
	uuids
)

func classOf(c *shape.Column) class {
	switch c.Kind {
	case value.Int, value.Float64, value.Float32, value.Decimal:
		return numbers
	case value.Text:
		return texts
	case value.Bool:
		return bools
	case value.Date:
		return dates
	case value.Timestamp:
		return timestamps
	case value.Instant:
		return instants
	case value.UUID:
		return uuids
	}
	return nothing
}

// truthy says whether a column holds truth values: a boolean, or an integer that its declared type says is one.
func truthy(c *shape.Column) bool {
	t := strings.ToLower(c.Type)
	return c.Kind == value.Bool || c.Kind == value.Int &&
		(strings.Contains(t, "bool") || strings.HasPrefix(t, "tinyint(1)"))
}

// columns checks that two columns can be compared on every engine with the same outcome.
func (c *checker) columns(x *CompareColumns) {
	l, r := x.Left.Column, x.Right.Column
	same := l.Kind == r.Kind && l.AsText == r.AsText || l.Kind == value.Int && r.Kind == value.Decimal ||
		l.Kind == value.Decimal && r.Kind == value.Int
	ordered := classOf(l) != uuids || x.Op == Equal || x.Op == NotEqual
	if classOf(l) == nothing || !same || !ordered {
		c.fail(x.Right.pos, fmt.Sprintf("column %q of type %s cannot be compared with column %q of type %s",
			x.Left.Name, l.Type, x.Right.Name, r.Type), "compare columns of one type, or each with a literal")
	}
}

// literal gives a literal the type of the column that it is compared with.
func (c *checker) literal(r *Ref, l *Literal) bool {
	col := r.Column
	mismatch := func(remedy string) bool {
		c.fail(l.pos, fmt.Sprintf("column %q is of type %s and is compared with %s", r.Name, typeName(col), l), remedy)
		return false
	}
	bad := func(message, remedy string) bool { c.fail(l.pos, message, remedy); return false }
	switch classOf(col) {
	case nothing:
		return mismatch("its values can only be asked for with IS NULL and IS NOT NULL")
	case numbers:
		if l.form == formBool && truthy(col) {
			l.Value = value.Of(map[string]int64{"TRUE": 1}[l.text])
			return true
		}
		if l.form != formNumber && truthy(col) {
			return mismatch("write TRUE, FALSE or a number, without quotes")
		}
		if l.form != formNumber {
			return mismatch("write a number, without quotes")
		}
		v, message := number(l.text, col.Kind)
		if message != "" {
			return bad(message, "write a number that the column can hold")
		}
		l.Value = v
	case texts:
		if col.Age == shape.AgeISO && !col.AsText && (l.form == formDate || l.form == formTimestamp) {
			return c.moment(l, value.Timestamp)
		}
		if l.form != formText {
			return mismatch(fmt.Sprintf("write a text in single quotes, like %s", quote(l.text)))
		}
		l.Value = value.OfText(l.text)
		l.Value.B = trimmed(col, l.Value.B)
	case bools:
		if l.form != formBool {
			return mismatch("write TRUE or FALSE")
		}
		l.Value = value.OfBool(l.text == "TRUE")
	case dates:
		if l.form != formDate && l.form != formText {
			return mismatch("write a date like DATE '2024-03-31'")
		}
		return c.moment(l, value.Date)
	case timestamps:
		if l.form == formNumber || l.form == formBool {
			return mismatch("write a time like TIMESTAMP '2024-03-31 12:00:00'")
		}
		return c.moment(l, value.Timestamp)
	case instants:
		if l.form == formNumber || l.form == formBool {
			return mismatch("write a time with its zone, like TIMESTAMP '2024-03-31 12:00:00+02:00'")
		}
		return c.moment(l, value.Instant)
	case uuids:
		if l.form != formText {
			return mismatch("write a UUID in single quotes")
		}
		b, ok := parseUUID(l.text)
		if !ok {
			return bad(fmt.Sprintf("%s is no UUID", l), "write one like '00112233-4455-6677-8899-aabbccddeeff'")
		}
		l.Value = value.Value{Kind: value.UUID, B: b}
	}
	return true
}

func typeName(c *shape.Column) string {
	if c.Type == "" {
		return "(none declared)"
	}
	return c.Type
}

var uuidForm = regexp.MustCompile(`^[0-9a-fA-F]{8}-?[0-9a-fA-F]{4}-?[0-9a-fA-F]{4}-?[0-9a-fA-F]{4}-?[0-9a-fA-F]{12}$`)

func parseUUID(s string) ([]byte, bool) {
	if !uuidForm.MatchString(s) {
		return nil, false
	}
	n, _ := new(big.Int).SetString(strings.ReplaceAll(s, "-", ""), 16)
	return n.FillBytes(make([]byte, 16)), true
}

// maxExponent bounds the digits that a number written with an exponent stands for.
const maxExponent = 400

// number types a written number for a column: whole numbers of an integer column as integers where they fit, other
// exact columns as exact decimals, floating columns as the nearest float.
func number(digits string, k value.Kind) (value.Value, string) {
	if k == value.Float64 || k == value.Float32 {
		f, _, err := big.ParseFloat(digits, 10, 2000, big.ToNearestEven)
		if err != nil {
			return value.Value{}, fmt.Sprintf("%.40s is no number", digits)
		}
		x, _ := f.Float64()
		if math.IsInf(x, 0) {
			return value.Value{}, fmt.Sprintf("%.40s is beyond what a floating number can hold", digits)
		}
		if x == 0 {
			x = 0 // not minus zero
		}
		return value.OfFloat(x), ""
	}
	text, ok := plainDecimal(digits)
	if !ok {
		return value.Value{}, fmt.Sprintf("%.40s has more than %d digits", digits, maxExponent)
	}
	if k == value.Int && !strings.Contains(text, ".") {
		if n, ok := new(big.Int).SetString(text, 10); ok && n.IsInt64() {
			return value.Of(n.Int64()), ""
		}
	}
	return value.Value{Kind: value.Decimal, B: []byte(text)}, ""
}

// plainDecimal writes a number without exponent, superfluous zeros and minus zero.
func plainDecimal(s string) (string, bool) {
	mantissa, exponent, _ := strings.Cut(strings.ToLower(s), "e")
	exp := 0
	if exponent != "" {
		if _, err := fmt.Sscan(exponent, &exp); err != nil || exp > maxExponent || exp < -maxExponent {
			return "", false
		}
	}
	negative := strings.HasPrefix(mantissa, "-")
	whole, fraction, _ := strings.Cut(strings.TrimPrefix(mantissa, "-"), ".")
	if len(whole)+len(fraction) > maxExponent {
		return "", false
	}
	all, point := whole+fraction, len(whole)+exp
	if point < 0 {
		all, point = strings.Repeat("0", -point)+all, 0
	}
	if point > len(all) {
		all += strings.Repeat("0", point-len(all))
	}
	whole, fraction = strings.TrimLeft(all[:point], "0"), strings.TrimRight(all[point:], "0")
	if whole == "" {
		whole = "0"
	}
	if fraction != "" {
		whole += "." + fraction
	}
	if negative && whole != "0" {
		whole = "-" + whole
	}
	return whole, true
}

var momentForm = regexp.MustCompile(
	`^(\d{4}-\d\d-\d\d)(?:[ T](\d\d:\d\d(?::\d\d(?:\.\d{1,6})?)?)\s*(Z|z|[+-]\d\d:?\d\d)?)?$`)

// moment reads a literal as ISO 8601 for a date, a clock without zone, or an instant.
func (c *checker) moment(l *Literal, k value.Kind) bool {
	bad := func(message, remedy string) bool { c.fail(l.pos, message, remedy); return false }
	m := momentForm.FindStringSubmatch(strings.TrimSpace(l.text))
	if m == nil {
		return bad(fmt.Sprintf("%s is no ISO 8601 date or time", l),
			"write one like 2024-03-31, 2024-03-31 12:00:00 or 2024-03-31T12:00:00Z")
	}
	clock := m[2]
	if clock == "" {
		clock = "00:00:00"
	} else if len(clock) == 5 {
		clock += ":00"
	}
	t, err := time.Parse("2006-01-02 15:04:05.999999", m[1]+" "+clock)
	if err != nil {
		return bad(fmt.Sprintf("%s is no day or time of the calendar", l), "")
	}
	if l.form == formDate && m[2] != "" {
		return bad(fmt.Sprintf("%s has a time of day", l), "write TIMESTAMP '…'")
	}
	switch k {
	case value.Date:
		if m[2] != "" {
			return bad(fmt.Sprintf("the column holds dates, and %s has a time of day", l),
				"write a date like DATE '2024-03-31'")
		}
		l.Value = value.Value{Kind: value.Date, N: t.Unix() / 86_400}
		if t.Unix() < 0 {
			l.Value.N = -((-t.Unix() + 86_399) / 86_400)
		}
	case value.Timestamp:
		if m[3] != "" {
			return bad(fmt.Sprintf("the column holds times without zone, and %s names one", l),
				"take the zone out, and write the clock as it stands in the column")
		}
		l.Value = value.Value{Kind: value.Timestamp, N: t.UnixMicro()}
	case value.Instant:
		if m[3] == "" {
			return bad(fmt.Sprintf("the column holds times with zone, and %s names none", l),
				"add one, like TIMESTAMP '2024-03-31 12:00:00Z' or …+02:00")
		}
		zone, err := time.Parse("Z07:00", colon(m[3]))
		if err != nil {
			return bad(fmt.Sprintf("the zone of %s cannot be read", l), "write Z or an offset like +02:00")
		}
		_, offset := zone.Zone()
		l.Value = value.Value{Kind: value.Instant, N: t.UnixMicro() - int64(offset)*1_000_000}
	}
	return true
}

// colon writes an offset with its colon.
func colon(zone string) string {
	zone = strings.ToUpper(zone)
	if len(zone) == 5 {
		return zone[:3] + ":" + zone[3:]
	}
	return zone
}

// Literal returns the value of a filter that compares one column with one literal, and whether it is such.
func (f *Filter) Literal() (value.Value, bool) {
	c, ok := f.root.(*Compare)
	if !ok {
		return value.Value{}, false
	}
	return c.Right.Value, true
}
