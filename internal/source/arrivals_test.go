package source

import "testing"

func TestArrivalsAreThoseOfOthers(t *testing.T) {
	const address = "harbour.example:5432"
	var a Arrivals
	for i, c := range []struct {
		counted int64 // by the server
		ours    int   // made since
		want    int
	}{
		{500, 0, 0},  // what was before is nobody's arrival
		{503, 0, 3},  // three came
		{503, 2, 0},  // two of ours, which the server has not counted yet
		{505, 0, 0},  // now it has
		{506, 0, 1},  // one came
		{7, 0, 0},    // the server was started anew
		{9, 0, 2},    // two came
		{109, 99, 1}, // one among many of ours
	} {
		for range c.ours {
			Connects(address)
		}
		if got := a.Others(address, c.counted); got != c.want {
			t.Errorf("%d: where the server counts %d, %d came, want %d", i, c.counted, got, c.want)
		}
	}
}
