package postgres

import (
	"fmt"
	"testing"
)

func TestStepsGoTogetherUntilOneFails(t *testing.T) {
	s, exec := open(t)
	exec("CREATE TABLE scan (id integer PRIMARY KEY, note text)")
	c, err := s.(*Source).pool.Acquire(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Release()
	pc := c.Conn().PgConn()
	insert := func(id int, note string) step {
		return step{query: "INSERT INTO public.scan VALUES ($1::text::integer, $2)",
			values: []string{fmt.Sprint(id), note}, fixed: true}
	}
	count := func(want string) {
		t.Helper()
		got := ""
		if err := together(t.Context(), pc, step{query: "SELECT count(*)::text FROM public.scan", fixed: true,
			row: func(f [][]byte) error {
				got = string(f[0])
				return nil
			}}); err != nil || got != want {
			t.Errorf("there are %s rows, want %s: %v", got, want, err)
		}
	}
	if err := together(t.Context(), pc, step{query: "BEGIN"}, insert(1, "it's"), insert(2, ""),
		step{query: "COMMIT"}); err != nil {
		t.Fatal(err)
	}
	count("2")
	err = together(t.Context(), pc, step{query: "BEGIN"}, insert(3, "c"), insert(1, "d"), insert(4, "e"),
		step{query: "COMMIT"})
	if code(err) != uniqueViolation {
		t.Errorf("the second of one key: %v", err)
	}
	if got := pc.TxStatus(); got != 'E' {
		t.Errorf("after a failure the transaction's state is %c", got)
	}
	run(t.Context(), pc, "ROLLBACK")
	count("2")
	wanted := fmt.Errorf("not wanted")
	if err := together(t.Context(), pc, step{query: "SELECT id FROM public.scan",
		row: func([][]byte) error { return wanted }}, insert(5, "f")); err == nil || code(err) != "" {
		t.Errorf("a row that is not wanted: %v", err)
	}
	// what is kept of the statements does not hold any more
	exec("DROP TABLE scan; CREATE TABLE scan (id integer PRIMARY KEY, note text)")
	if err := together(t.Context(), pc, insert(1, "g")); err != nil {
		t.Error(err)
	}
	count("1")
	if pc.TxStatus() != 'I' || len(pc.CustomData()[statementsKey].(map[string]string)) != 2 {
		t.Errorf("state %c, statements %v", pc.TxStatus(), pc.CustomData()[statementsKey])
	}
}
