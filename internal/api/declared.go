package api

import (
	"context"
	"net/http"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/service"
)

// declaredRoutes are the routes of what is declared in files.
func (a *API) declaredRoutes() []route {
	s := a.service
	return []route{
		get("/declared", "Declared", "How the files of declarations, as they are now, and what is in force differ",
			func(ctx context.Context, _ request) (*service.Declared, error) { return s.Declared.State(ctx) }),
		take("POST", "/declared", "ApplyDeclared",
			"Take up what is new or was changed in the files of declarations, and what is named over changes that "+
				"somebody made", func(ctx context.Context, r request, in service.TakeUp) (*service.Declared, error) {
				return s.Declared.TakeUp(ctx, r.actor(), in)
			}),
		file("/declared/in-force", "PrintDeclared", "All that can be declared as it is in force, as YAML",
			a.printDeclared),
	}
}

func (a *API) printDeclared(c *gin.Context) {
	text, err := a.service.Declared.Print(c.Request.Context())
	if err != nil {
		fail(c, err)
		return
	}
	c.Data(http.StatusOK, "application/yaml", []byte(text))
}
