package client_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"

	"ambercellar/client"
)

// A program makes a plan, looks at what it would take, and starts a run of it.
func Example() {
	service := standIn()
	defer service.Close()
	ctx := context.Background()
	c := &client.Client{Server: service.URL, Token: "amber_…"}

	plan, err := c.MakePlan(ctx, client.NewPlan{Rule: "boarding-scans", Exact: true})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Printf("%d of %d rows of %s.%s are due\n", plan.Counts.Due, plan.Counts.Total, plan.Source, plan.Table)

	run, err := c.StartRun(ctx, client.NewRun{Plan: plan.ID})
	var problem *client.Problem
	if errors.As(err, &problem) { // what the service refuses says what to do about it
		fmt.Println(problem.Detail, problem.Remedy)
		return
	}
	if err != nil {
		fmt.Println(err)
		return
	}
	if err := c.Watch(ctx, run.ID, func(now client.RunView) error {
		fmt.Printf("%s: %d of %d rows\n", now.State, now.Done, now.Due)
		return nil
	}); err != nil {
		fmt.Println(err)
	}
	// Output:
	// 112515 of 300000 rows of harbour.boarding_scan are due
	// running: 95000 of 112515 rows
	// done: 112515 of 112515 rows
}

// Lists come in pages; Every goes through all of them.
func ExampleEvery() {
	service := standIn()
	defer service.Close()
	c := &client.Client{Server: service.URL}
	ctx := context.Background()
	for s, err := range client.Every(func(after string) (client.Items[client.Segment], error) {
		return c.Segments(ctx, client.SegmentsQuery{Source: "harbour", After: after})
	}) {
		if err != nil {
			fmt.Println(err)
			return
		}
		fmt.Println(s.ID, s.Rows)
	}
	// Output:
	// A 125000
	// B 87500
}

// standIn answers like a service.
func standIn() *httptest.Server {
	answers := map[string]string{
		"POST /api/v1/plans": `{"id":"P","source":"harbour","table":"boarding_scan",
			"counts":{"due":112515,"total":300000}}`,
		"POST /api/v1/runs": `{"id":"R","state":"queued"}`,
		"GET /api/v1/runs/R/events": "event:run\ndata:{\"state\":\"running\",\"done\":95000,\"due\":112515}\n\n" +
			"event:run\ndata:{\"state\":\"done\",\"done\":112515,\"due\":112515}\n\nevent:end\ndata:\n\n",
		"GET /api/v1/segments?source=harbour":         `{"items":[{"id":"A","rows":125000}],"next":"A"}`,
		"GET /api/v1/segments?after=A&source=harbour": `{"items":[{"id":"B","rows":87500}],"next":null}`,
	}
	return httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, answers[r.Method+" "+r.URL.RequestURI()])
	}))
}
