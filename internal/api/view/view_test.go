package view

import (
	"reflect"
	"testing"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/reconcile"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/entryfile"
	"ambercellar/internal/source"
)

// shows makes a record in which everything is set and looks for what is not set in what is shown of it.
func shows[R, V any](show func(*R) V) func(*testing.T) {
	return func(t *testing.T) {
		record := new(R)
		set(reflect.ValueOf(record).Elem(), 0)
		shown := show(record)
		missing(t, reflect.ValueOf(shown), reflect.TypeFor[V]().Name())
	}
}

// set gives each field of a value something else than its zero value.
func set(v reflect.Value, depth int) {
	if depth > 8 {
		return
	}
	switch v.Kind() {
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int64, reflect.Int8, reflect.Int32:
		v.SetInt(7)
	case reflect.Uint8, reflect.Uint64:
		v.SetUint(7)
	case reflect.Float64:
		v.SetFloat(7)
	case reflect.String:
		v.SetString("set")
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		set(v.Elem(), depth+1)
	case reflect.Map:
		key, value := reflect.New(v.Type().Key()).Elem(), reflect.New(v.Type().Elem()).Elem()
		set(key, depth+1)
		set(value, depth+1)
		v.Set(reflect.MakeMap(v.Type()))
		v.SetMapIndex(key, value)
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		set(v.Index(0), depth+1)
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Field(i).CanSet() {
				set(v.Field(i), depth+1)
			}
		}
	}
}

func missing(t *testing.T, v reflect.Value, path string) {
	t.Helper()
	for i := range v.NumField() {
		f := v.Type().Field(i)
		switch {
		case f.Tag.Get("json") == "-" || f.Type == reflect.TypeFor[catalog.Time]():
		case f.Anonymous:
			missing(t, v.Field(i), path+"."+f.Name)
		case v.Field(i).IsZero():
			t.Errorf("%s.%s is not shown", path, f.Name)
		}
	}
}

func TestAllOfARecordIsShown(t *testing.T) {
	for name, show := range map[string]func(*testing.T){
		"run": shows(RunOf), "batch": shows(BatchOf), "slowdown": shows(SlowdownOf), "plan": shows(PlanOf),
		"segment": shows(SegmentOf), "retrieval": shows(RetrievalOf), "verification": shows(VerificationOf),
		"archived table": shows(ArchivedTableOf), "store": shows(StoreOf), "store totals": shows(StoreTotalsOf),
		"restore": shows(RestoreOf), "disposal": shows(DisposalOf), "placed item": shows(PlacedItemOf),
		"placed stay": shows(PlacedStayOf), "hold": shows(HoldOf), "rule": shows(RuleOf), "revision": shows(RevisionOf),
		"keep": shows(KeepOf), "source": shows[source.Config](ConfigOf), "former name": shows(FormerNameOf),
		"lineage": shows(LineageOf), "day": shows(DayOf), "step": shows(StepOf), "off schedule": shows(OffScheduleOf),
		"entry": shows(func(e *catalog.Entry) entryfile.Entry {
			x := entryfile.EntryOf(e, true)
			x.Withheld = true // it is said of whoever asks, not of the record
			return x
		}), "totals": shows(TotalsOf),
		"segment detail": shows(func(s *shelf.SegmentDetail) Segment { return SegmentDetailOf(s).Segment }),
		"placed hold":    shows(func(p *plan.Placed) Hold { return PlacedOf(p).Hold }),
		"rule preview":   shows(func(p *plan.Preview) Plan { return *PreviewOf(p).Plan }),
		"reconciliation": shows(func(r *reconcile.Reconciliation) Lineage { return *ReconciliationOf(r).Known }),
	} {
		t.Run(name, show)
	}
}
