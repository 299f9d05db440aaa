package api

import (
	"context"
	"fmt"
	"net/http"
	"path/filepath"
	"strings"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/api/view"
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/restore"
)

// restoreRoutes are the routes of restores.
func (a *API) restoreRoutes() []route {
	s := a.service
	return []route{
		paged("/restores", "Restores", "Restores, the newest first",
			func(ctx context.Context, _ request, p catalog.Page) ([]catalog.Restore, error) {
				return s.Catalog.Restores(ctx, p)
			}, view.RestoreOf),
		take("POST", "/restores", "RequestRestore", "Bring archived rows back",
			func(ctx context.Context, r request, q restore.RestoreRequest) (*view.Restore, error) {
				return one(view.RestoreOf)(s.Queue.RequestRestore(ctx, r.actor(), q))
			}).accepted(),
		take("POST", "/restores/preview", "PreviewRestore", "What a restore would do; nothing is changed",
			func(ctx context.Context, _ request, q restore.RestoreRequest) (*restore.RestorePreview, error) {
				return s.Engine.Restores.PreviewRestore(ctx, q)
			}),
		get("/restores/{restore}", "Restore", "One restore", func(ctx context.Context, r request) (*view.Restore,
			error) {
			return one(view.RestoreOf)(s.Catalog.Restore(ctx, r.Param("restore")))
		}),
		take("POST", "/restores/{restore}/keep", "KeepRestored", "Change how long the rows of a restore stay",
			func(ctx context.Context, r request, in NewKeeping) (*view.Restore, error) {
				return one(view.RestoreOf)(s.Engine.Restores.KeepRestored(ctx, r.actor(), r.Param("restore"), in.For))
			}),
		act("POST", "/restores/{restore}/approve", "ApproveRestore", "Approve a restore that waits for it",
			func(ctx context.Context, r request) (*view.Restore, error) {
				return a.decideRestore(ctx, r, true, "")
			}).accepted(),
		take("POST", "/restores/{restore}/refuse", "RefuseRestore", "Refuse a restore that waits for an approval",
			func(ctx context.Context, r request, in NewRefusal) (*view.Restore, error) {
				return a.decideRestore(ctx, r, false, in.Reason)
			}),
		file("/restores/{restore}/file", "RestoreFile", "The file of a restore", a.restoreFile),
		file("/restores/{restore}/replaced", "ReplacedRows",
			"The rows that a restore replaced, as they were, as newline-delimited JSON", a.replacedFile),
	}
}

// decideRestore decides on a restore that waits for an approval.
func (a *API) decideRestore(ctx context.Context, r request, approves bool, reason string) (*view.Restore, error) {
	asked, err := a.service.Approvals.OfRestore(ctx, r.Param("restore"))
	if err == nil {
		_, err = a.service.Approvals.Decide(ctx, r.who(), asked.ID, approves, reason)
	}
	if err != nil {
		return nil, err
	}
	return one(view.RestoreOf)(a.service.Catalog.Restore(ctx, r.Param("restore")))
}

var fileKinds = map[string]string{"csv": "text/csv; charset=utf-8", "csv-safe": "text/csv; charset=utf-8",
	"ndjson": "application/x-ndjson", "parquet": "application/vnd.apache.parquet"}

func (a *API) replacedFile(c *gin.Context) {
	path, err := a.service.Queue.ReplacedFile(c.Request.Context(), c.Param("restore"))
	if err != nil {
		fail(c, err)
		return
	}
	c.Header("Content-Type", fileKinds["ndjson"])
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=\"%s\"", filepath.Base(path)))
	http.ServeFile(c.Writer, c.Request, path)
}

func (a *API) restoreFile(c *gin.Context) {
	path, r, err := a.service.Queue.RestoreFile(c.Request.Context(), c.Param("restore"))
	if err != nil {
		fail(c, err)
		return
	}
	c.Header("Content-Type", fileKinds[r.Format])
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=\"%s.%s\"", r.ID,
		strings.TrimSuffix(r.Format, "-safe")))
	http.ServeFile(c.Writer, c.Request, path)
}
