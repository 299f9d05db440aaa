package mariadb

import (
	"math/big"
	"math/rand/v2"
	"strings"
	"testing"
)

func TestDecimalsThatTheServerCannotHold(t *testing.T) {
	nines := strings.Repeat("9", 65)
	for text, want := range map[string]struct {
		floor string
		exact bool
		huge  int
	}{
		"0": {"0", true, 0}, "-12.50": {"-12.50", true, 0}, nines: {nines, true, 0}, "-" +
			nines: {"-" + nines, true, 0},
		"1" + nines: {"", false, 1}, "-1" + nines: {"", false, -1},
		"0." + strings.Repeat("1", 30):  {"0." + strings.Repeat("1", 30), true, 0},
		"0." + strings.Repeat("1", 31):  {"0." + strings.Repeat("1", 30), false, 0},
		"-0." + strings.Repeat("1", 31): {"-0." + strings.Repeat("1", 29) + "2", false, 0}, // the next below
		nines + ".5":                    {nines, false, 0},
	} {
		floor, exact, huge := fitsDecimal(text)
		if floor != want.floor || exact != want.exact || huge != want.huge {
			t.Errorf("%s: %s, %v, %d instead of %+v", text, floor, exact, huge, want)
		}
	}
	// Whatever the number, its floor is not above it, and nothing that the server holds lies between the two.
	random := rand.New(rand.NewPCG(1, 2))
	digits := func(n int) string {
		b := make([]byte, n)
		for i := range b {
			b[i] = byte('0' + random.IntN(10))
		}
		return string(b)
	}
	for range 3000 {
		text := "1" + digits(random.IntN(70))
		if random.IntN(3) > 0 {
			text += "." + digits(1+random.IntN(45))
		}
		if random.IntN(2) == 0 {
			text = "-" + text
		}
		floor, exact, huge := fitsDecimal(text)
		whole, _, _ := strings.Cut(strings.TrimPrefix(text, "-"), ".")
		if huge != 0 {
			if len(whole) <= maxDigits || (huge < 0) != (text[0] == '-') {
				t.Errorf("%s is taken for huge: %d", text, huge)
			}
			continue
		}
		number, _ := new(big.Rat).SetString(text)
		below, ok := new(big.Rat).SetString(floor)
		_, fraction, _ := strings.Cut(floor, ".")
		if !ok || below.Cmp(number) > 0 || exact != (below.Cmp(number) == 0) && exact {
			t.Fatalf("the floor of %s is %s (exact: %v)", text, floor, exact)
		}
		step := new(big.Rat).SetFrac(big.NewInt(1), new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(len(fraction))),
			nil))
		if next := new(big.Rat).Add(below, step); next.Cmp(number) <= 0 {
			t.Fatalf("between %s and its floor %s lies another", text, floor)
		}
	}
}
