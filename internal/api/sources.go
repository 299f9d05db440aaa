package api

import (
	"context"

	"ambercellar/internal/api/view"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/service"
	"ambercellar/internal/source"
)

// sourceRoutes are the routes of sources.
func (a *API) sourceRoutes() []route {
	s := a.service
	return []route{
		whole("/sources", "Sources", "All sources", func(ctx context.Context, _ request) ([]view.Config, error) {
			return each(view.ConfigOf)(s.Catalog.Sources(ctx))
		}),
		take("POST", "/sources", "AddSource", "Add a source",
			func(ctx context.Context, r request, in NewSource) (*source.Report, error) {
				return s.Places.AddSource(ctx, r.actor(), source.Config(in))
			}).created(),
		take("PATCH", "/sources/{source}", "ChangeSource",
			"Change how a source is reached; its engine stays, and its address while a run or a restore of it works",
			func(ctx context.Context, r request, in service.SourceChange) (*source.Report, error) {
				return s.Queue.ChangeSource(ctx, r.actor(), r.Param("source"), in)
			}),
		act("DELETE", "/sources/{source}", "DeleteSource",
			"Forget a source that no rule, run, segment, restore or hold knows",
			func(ctx context.Context, r request) (Items[view.Config], error) {
				if err := s.Places.DeleteSource(ctx, r.actor(), r.Param("source")); err != nil {
					return Items[view.Config]{}, err
				}
				return all(each(view.ConfigOf)(s.Catalog.Sources(ctx)))
			}),
		get("/sources/{source}/check", "CheckSource", "Connect to a source and report rights and obstacles",
			func(ctx context.Context, r request) (*source.Report, error) {
				src, err := s.Source(ctx, r.Param("source"))
				if err != nil {
					return nil, err
				}
				return src.Check(ctx)
			}),
		get("/sources/{source}/guard", "Guard", "The guard rails of a source",
			func(ctx context.Context, r request) (catalog.Guard, error) {
				if _, err := s.Catalog.Source(ctx, r.Param("source")); err != nil {
					return catalog.Guard{}, err
				}
				return s.Catalog.Guard(ctx, r.Param("source"))
			}),
		take("PUT", "/sources/{source}/guard", "SetGuard", "Set the guard rails of a source",
			func(ctx context.Context, r request, in catalog.Guard) (catalog.Guard, error) {
				return in, s.Places.SetGuard(ctx, r.actor(), r.Param("source"), in)
			}),
	}
}

// tableRoutes are the routes of the tables of sources.
func (a *API) tableRoutes() []route {
	s := a.service
	return []route{
		whole("/sources/{source}/tables", "Tables", "The tables of a source",
			func(ctx context.Context, r request) ([]shape.Table, error) {
				src, err := s.Source(ctx, r.Param("source"))
				if err != nil {
					return nil, err
				}
				list, err := src.Tables(ctx)
				for i := range list {
					tidy(&list[i])
				}
				return list, err
			}),
		get("/sources/{source}/tables/{table}", "Table", "One table",
			func(ctx context.Context, r request) (*shape.Table, error) {
				src, err := s.Source(ctx, r.Param("source"))
				if err != nil {
					return nil, err
				}
				t, err := src.Table(ctx, r.Param("table"))
				if err != nil {
					return nil, err
				}
				return tidy(t), nil
			}),
		get("/sources/{source}/tables/{table}/reconciliation", "Reconcile",
			"What source, stores and catalog tell of a table, side by side",
			func(ctx context.Context, r request) (*view.Reconciliation, error) {
				return one(view.ReconciliationOf)(s.Engine.Reconcile.Reconcile(ctx, r.Param("source"),
					r.Param("table")))
			}),
		take("POST", "/sources/{source}/tables/{table}/reconciliation", "Settle", "Make them agree again",
			func(ctx context.Context, r request, in NewSettling) (*view.Reconciliation, error) {
				return one(view.ReconciliationOf)(s.Lineages.Settle(ctx, r.actor(), r.Param("source"),
					r.Param("table"), in.Reason))
			}),
		take("POST", "/sources/{source}/tables/{table}/partitions", "MakePartitions",
			"Make the next partitions of a table, or see how",
			func(ctx context.Context, r request, in NewPartitions) (*plan.PartitionsAhead, error) {
				return s.Engine.Plans.MakeAhead(ctx, r.actor(), r.Param("source"), r.Param("table"), in.Ahead, in.Try)
			}),
		whole("/sources/{source}/tables/{table}/names", "ColumnNames",
			"The names that a table's columns have had, as they were told or as the database knows them",
			func(ctx context.Context, r request) ([]view.FormerName, error) {
				return each(view.FormerNameOf)(s.Engine.Search.ColumnNames(ctx, r.Param("source"), r.Param("table")))
			}),
		take("POST", "/sources/{source}/tables/{table}/names", "TellName", "Tell what a column was called before",
			func(ctx context.Context, r request, in NewName) (Items[view.FormerName], error) {
				return all(each(view.FormerNameOf)(s.Engine.Search.TellName(ctx, r.actor(), in.of(r))))
			}),
		take("POST", "/sources/{source}/tables/{table}/names/forget", "ForgetName",
			"Take back what was told of a column's name",
			func(ctx context.Context, r request, in NewName) (Items[view.FormerName], error) {
				return all(each(view.FormerNameOf)(s.Engine.Search.ForgetName(ctx, r.actor(), in.of(r))))
			}),
	}
}

func (n NewName) of(r request) catalog.FormerName {
	return catalog.FormerName{Source: r.Param("source"), Table: r.Param("table"), Name: n.Name, Was: n.Was}
}

// tidy gives lists that are empty rather than missing.
func tidy(t *shape.Table) *shape.Table {
	fill(&t.Columns)
	fill(&t.Key)
	fill(&t.Indexes)
	fill(&t.References)
	fill(&t.ReferencedBy)
	fill(&t.Triggers)
	fill(&t.Obstacles)
	fill(&t.Notes)
	return t
}
