package api

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/metrics"
	"ambercellar/internal/service"
)

// sessionRoutes are the routes of signing in and out, and the document of all routes.
func (a *API) sessionRoutes() []route {
	return []route{
		file("/openapi.json", "OpenAPI", "This document",
			func(c *gin.Context) { c.Data(http.StatusOK, "application/json", a.document()) }).free(),
		take("POST", "/session", "SignIn", "Sign in to the console with a token", a.signIn).free(),
		get("/session", "Session", "Who is signed in", func(_ context.Context, r request) (Session,
			error) {
			return sessionOf(r.who()), nil
		}),
		act("DELETE", "/session", "SignOut", "Sign out", a.signOut),
	}
}

const cookieName = "ambercellar_session"

// authenticated lets in whoever shows the token, or the cookie of a session. A cookie changes things only for pages of
// our own, so that no other site can use it.
func (a *API) authenticated(c *gin.Context) {
	if _, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		switch who, err := a.whose(c); {
		case err != nil:
			fail(c, err)
		case who == nil:
			fail(c, problem(http.StatusUnauthorized, "token", "The token is wrong", "this is neither the "+
				"administrator's token nor that of an account that stands; `ambercellar serve -new-token` makes a new "+
				"one, `ambercellar account add` an account"))
		default:
			c.Set(whoKey, who)
		}
		return
	}
	who, err := a.whose(c)
	if err != nil {
		fail(c, err)
		return
	}
	if who != nil && sameSite(c.Request) {
		c.Set(whoKey, who)
		return
	}
	fail(c, problem(http.StatusUnauthorized, "token", "You are not signed in",
		"send a token as `Authorization: Bearer …` (the client reads it from AMBERCELLAR_TOKEN)"))
}

// whose returns who shows the token or the cookie of a request; nil: nobody who may come in.
func (a *API) whose(c *gin.Context) (*service.Who, error) {
	if bearer, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		return a.service.Access.CheckToken(c.Request.Context(), bearer, c.RemoteIP())
	}
	secret, err := c.Cookie(cookieName)
	if err != nil {
		return nil, nil
	}
	return a.service.Access.CheckSession(c.Request.Context(), secret)
}

// standsEvery is how often it is asked whether somebody may still have what flows to them.
const standsEvery = 2 * time.Second

// whileStanding breaks off what flows to somebody whose account or session has ended.
func (a *API) whileStanding(c *gin.Context) {
	ctx, cancel := context.WithCancel(c.Request.Context())
	defer cancel()
	asks := c.Copy() // without the answer, and with the request as it came
	c.Request = c.Request.WithContext(ctx)
	go func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(standsEvery):
			}
			// where it cannot be asked, what flows goes on
			if who, err := a.whose(asks); err == nil && who == nil && ctx.Err() == nil {
				cancel()
				return
			}
		}
	}()
	c.Next()
}

// scraped lets in who shows the token for reading figures, or the administrator's.
func (a *API) scraped(c *gin.Context) {
	if !a.service.Access.MayScrape(c.GetHeader("Authorization")) {
		a.authenticated(c)
	}
}

// Figures answers on a listener of its own with the figures of a service, to whoever shows the token for that, if there
// is one.
func Figures(s *service.Service) http.Handler {
	figures := metrics.Handler(s)
	mux := http.NewServeMux()
	mux.HandleFunc("GET /metrics", func(w http.ResponseWriter, r *http.Request) {
		if s.Access.ScrapeToken() != "" && !s.Access.MayScrape(r.Header.Get("Authorization")) {
			w.Header().Set("WWW-Authenticate", "Bearer")
			http.Error(w, "send the token for reading figures as `Authorization: Bearer …`", http.StatusUnauthorized)
			return
		}
		figures.ServeHTTP(w, r)
	})
	return mux
}

func sameSite(r *http.Request) bool {
	if r.Method == http.MethodGet || r.Method == http.MethodHead {
		return true
	}
	u, err := url.Parse(r.Header.Get("Origin"))
	return err == nil && u.Host == r.Host
}

func (a *API) signIn(ctx context.Context, c request, in Login) (*Session, error) {
	who, err := a.service.Access.CheckToken(ctx, in.Token, c.RemoteIP())
	if err != nil {
		return nil, err
	}
	if who == nil {
		if wait := a.tries.failed(c.RemoteIP(), time.Now()); wait > 0 {
			c.Header("Retry-After", strconv.Itoa(int(wait/time.Second)+1))
			p := problem(http.StatusTooManyRequests, "token", "Too many wrong tokens",
				fmt.Sprintf("%d wrong tokens came from %s", mostTries, c.RemoteIP()))
			p.Field, p.Remedy = "token", fmt.Sprintf("wait for %s; the right token is taken at any time",
				wait.Round(time.Second))
			return nil, p
		}
		p := problem(http.StatusUnauthorized, "token", "The token is wrong", "this is neither the "+
			"administrator's token nor that of an account that stands")
		p.Field, p.Remedy = "token", "it was written into a file of the data directory when the service first "+
			"started; `ambercellar serve -new-token` makes a new one"
		return nil, p
	}
	secret, expires, err := a.service.Access.BeginSession(ctx, who)
	if err != nil {
		return nil, err
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: cookieName, Value: secret, Path: "/", Expires: expires, HttpOnly: true,
		SameSite: http.SameSiteStrictMode, Secure: overTLS(c.Request)})
	session := sessionOf(who)
	return &session, nil
}

func (a *API) signOut(ctx context.Context, c request) (none, error) {
	if secret, err := c.Cookie(cookieName); err == nil {
		if err := a.service.Access.EndSession(ctx, secret); err != nil {
			return none{}, err
		}
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: cookieName, Path: "/", MaxAge: -1, HttpOnly: true,
		SameSite: http.SameSiteStrictMode})
	return none{}, nil
}
