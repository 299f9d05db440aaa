package api

import (
	"html/template"
	"net/http"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/service"
)

// SignInWays says how people can sign in besides with a name and a password.
type SignInWays struct {
	Single bool `json:"single"` // by single sign-on: at /session/single
}

// singleCookie tells the browser that was sent to the identity provider. It has to come back with it, from another
// site.
const singleCookie = "ambercellar_single"

// singlePath is where that cookie goes to.
const singlePath = "/api/v1/session/single"

func (a *API) beginSingle(c *gin.Context) {
	address, browser, err := a.service.Access.BeginSingle(c.Request.Context())
	if err != nil {
		a.tellSingle(c, err)
		return
	}
	http.SetCookie(
		c.Writer,
		&http.Cookie{Name: singleCookie, Value: browser, Path: singlePath, MaxAge: 600, HttpOnly: true,
			SameSite: http.SameSiteLaxMode, Secure: overTLS(c.Request)},
	)
	c.Header("Cache-Control", "no-store")
	c.Redirect(http.StatusFound, address)
}

func (a *API) endSingle(c *gin.Context) {
	ctx, r := c.Request.Context(), request{c}
	browser, _ := c.Cookie(singleCookie) // without it, the sign-in is another's
	who, err := a.service.Access.EndSingle(
		ctx,
		c.Query("state"),
		c.Query("code"),
		c.Query("error"),
		browser,
		c.RemoteIP(),
	)
	if err != nil {
		a.tellSingle(c, err)
		return
	}
	old, _ := c.Cookie(cookieName)
	secret, session, err := a.service.Access.BeginSession(ctx, service.Beginning{Who: who, How: "by single sign-on",
		Instead: old, Address: c.RemoteIP(), Agent: c.Request.UserAgent()})
	if err != nil {
		a.tellSingle(c, err)
		return
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: singleCookie, Path: singlePath, MaxAge: -1, HttpOnly: true,
		SameSite: http.SameSiteLaxMode})
	a.setCookie(r, cookieName, secret, session.ExpiresAt.Time)
	// A page of our own sends the browser on: a session's cookie goes nowhere from another site's.
	c.Header("Cache-Control", "no-store")
	c.Header("Refresh", "0; url=/")
	c.Data(
		http.StatusOK,
		"text/html; charset=utf-8",
		[]byte("<!doctype html><html lang=\"en\"><title>Amber Cellar</title>"+
			"<p>You are signed in. <a href=\"/\">Go on</a></p></html>"),
	)
}

var singleTrouble = template.Must(template.New("trouble").Parse("<!doctype html><html lang=\"en\"><title>Amber Cellar" +
	"</title><h1>You are not signed in</h1><p>{{.Detail}}</p><p>{{.Remedy}}</p><p><a href=\"/\">To the sign-in " +
	"page</a></p>" +
	"</html>"))

// tellSingle says on a page why somebody is not signed in.
func (a *API) tellSingle(c *gin.Context, err error) {
	p := problemOf(err)
	c.Error(err)
	c.Header("Content-Type", "text/html; charset=utf-8")
	c.Header("Cache-Control", "no-store")
	c.Status(p.Status)
	if err := singleTrouble.Execute(c.Writer, p); err != nil {
		a.log.Error("a page cannot be written", "error", err)
	}
	c.Abort()
}
