package api

import (
	"context"
	"encoding/base64"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/api/view"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/rights"
	"ambercellar/internal/metrics"
	"ambercellar/internal/service"
)

// sessionRoutes are the routes of signing in and out, and the document of all routes.
func (a *API) sessionRoutes() []route {
	s := a.service.Access
	return []route{
		file("/openapi.json", "OpenAPI", "This document",
			func(c *gin.Context) { c.Data(http.StatusOK, "application/json", a.document()) }).free(),
		take("POST", "/session", "SignIn", "Sign in, with a name and a password, or with a token", a.signIn).free(),
		get("/session/ways", "SignInWays", "How people can sign in here",
			func(context.Context, request) (SignInWays, error) {
				return SignInWays{Single: s.OffersSingle()}, nil
			}).free(),
		file("/session/single", "BeginSingle", "Go to the identity provider, to sign in there", a.beginSingle).free(),
		file(
			"/session/single/back",
			"EndSingle",
			"Come back from the identity provider",
			a.endSingle,
		).asks(
			"state",
			"code",
			"error",
		).free(),
		act(
			"POST",
			"/session/pairing",
			"BeginPairing",
			"Have a command line signed in by somebody who is signed in to "+
				"the console: it shows a code, which they confirm there",
			func(_ context.Context, r request) (Pairing, error) {
				p, err := s.BeginPairing(r.RemoteIP(), r.Request.UserAgent())
				return Pairing{Code: p.Code, Secret: p.Secret, ExpiresAt: catalog.At(p.ExpiresAt)}, err
			},
		).free(),
		take(
			"POST",
			"/session/pairing/confirmation",
			"Pair",
			"Confirm the code that a command line shows: it signs in as you",
			func(ctx context.Context, r request, in PairingCode) (none, error) {
				return none{}, s.Pair(ctx, r.who(), in.Code)
			},
		),
		take(
			"POST",
			"/session/pairing/session",
			"TakePairing",
			"The session of a command line whose code was confirmed",
			a.takePairing,
		).free(),
		get("/session", "Session", "Who is signed in", func(_ context.Context, r request) (Session,
			error) {
			return sessionOf(r.who()), nil
		}),
		act("DELETE", "/session", "SignOut", "Sign out", a.signOut),
		take("POST", "/session/password", "ChangePassword", "Change your own password; your other sessions end",
			func(ctx context.Context, r request, in NewPassword) (none, error) {
				return none{}, s.ChangePassword(ctx, r.who(), in.Password, in.NewPassword)
			}),
		take(
			"POST",
			"/session/second-factor",
			"OfferSecond",
			"Make a second factor; it is yours once you show a code",
			func(ctx context.Context, r request, in PasswordAgain) (*SecondFactor, error) {
				x, err := s.OfferSecond(ctx, r.who(), in.Password)
				if err != nil {
					return nil, err
				}
				return &SecondFactor{Secret: x.Secret, Address: x.Address,
					Picture: "data:image/png;base64," + base64.StdEncoding.EncodeToString(x.Picture)}, nil
			},
		),
		take("PUT", "/session/second-factor", "TakeSecond", "Have a second factor from now on, or none any more",
			func(ctx context.Context, r request, in NewSecond) (none, error) {
				return none{}, s.TakeSecond(ctx, r.who(), in.Password, in.Secret, in.Code)
			}),
		whole(
			"/sessions",
			"Sessions",
			"Your sessions, the newest first; with all=true everybody's, for administrators",
			func(ctx context.Context, r request) ([]view.OpenSession, error) {
				all := r.Query("all") == "true"
				if all && !r.who().May(rights.Administer) {
					return nil, mayNot(r.who(), rights.Administer, nil)
				}
				list, err := s.Sessions(ctx, r.who(), all)
				own := ""
				if x := r.who().Session; x != nil {
					own = x.ID
				}
				return shown(
					list,
					func(x *catalog.Session) view.OpenSession { return view.OpenSessionOf(x, own) },
				), err
			},
		).asks("all"),
		act("DELETE", "/sessions/{session}", "EndSession", "End a session of yours; anybody's, for administrators",
			func(ctx context.Context, r request) (none, error) {
				return none{}, s.EndSession(ctx, r.who(), r.Param("session"), r.who().May(rights.Administer))
			}),
	}
}

// Names of cookies: of a session, and of a browser from which somebody has signed in.
const cookieName, browserCookie = "ambercellar_session", "ambercellar_browser"

// authenticated lets in whoever shows the token, or the cookie of a session. A cookie changes things only for pages of
// our own, so that no other site can use it.
func (a *API) authenticated(c *gin.Context) {
	_, bearer := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
	who, err := a.whose(c)
	switch {
	case err != nil:
		fail(c, err)
		return
	case who == nil && bearer:
		fail(c, a.service.Access.WrongToken(c.Request.Context(), c.RemoteIP()))
		return
	case who == nil || !bearer && !certified(c.Request) && !sameSite(c.Request):
		fail(c, problem(
			http.StatusUnauthorized,
			"token",
			"You are not signed in",
			"sign in with `ambercellar login`, or send a token as `Authorization: Bearer …` (the client reads it from "+
				"AMBERCELLAR_TOKEN)",
		))
		return
	case who.Account != nil && who.Account.MustChange && who.Session != nil && !beforeChange[c.FullPath()]:
		p := problem(http.StatusForbidden, "password", "Your password has to be changed",
			"the password that you were given was for signing in once")
		p.Field, p.Remedy = "password", "choose one of your own (`ambercellar password`)"
		fail(c, p)
		return
	}
	from := catalog.Origin{Address: c.RemoteIP()}
	if who.Session != nil {
		from.Session = who.Session.ID
	}
	c.Set(whoKey, who)
	c.Request = c.Request.WithContext(catalog.WithOrigin(c.Request.Context(), from))
}

// beforeChange are the routes that are open to who has to change a password first.
var beforeChange = map[string]bool{"/api/v1/session": true, "/api/v1/session/password": true}

// whose returns who shows the token, the cookie or the client certificate of a request; nil: nobody who may come in.
func (a *API) whose(c *gin.Context) (*service.Who, error) { return a.sender(c.Request, c.RemoteIP()) }

// sender returns who sends a request; from is the address that it comes from, empty: it is only asked.
func (a *API) sender(r *http.Request, from string) (*service.Who, error) {
	if bearer, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return a.service.Access.CheckToken(r.Context(), bearer, from)
	}
	if cookie, err := r.Cookie(cookieName); err == nil {
		return a.service.Access.CheckSession(r.Context(), cookie.Value)
	}
	if certified(r) {
		return a.service.Access.CheckCertificate(r.Context(), r.TLS.PeerCertificates[0].Subject.CommonName, from)
	}
	return nil, nil
}

// certified says whether a request comes with a client certificate that an authority vouches for. Only machines have
// one: with a browser, every page of another site could use it.
func certified(r *http.Request) bool {
	return r.TLS != nil && len(r.TLS.VerifiedChains) > 0 && r.Header.Get("Sec-Fetch-Site") == "" &&
		r.Header.Get("Origin") == ""
}

// stands says whether the sender of a request may come in. Where it cannot be asked, the request is heard, and refused
// there.
func (a *API) stands(r *http.Request) bool {
	who, err := a.sender(r, "")
	return who != nil && err == nil
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

// sameSite says whether a request that is to change something comes from a page of our own: browsers say so.
func sameSite(r *http.Request) bool {
	if r.Method == http.MethodGet || r.Method == http.MethodHead {
		return true
	}
	if site := r.Header.Get("Sec-Fetch-Site"); site != "" && site != "same-origin" {
		return false
	}
	u, err := url.Parse(r.Header.Get("Origin"))
	return err == nil && u.Host == r.Host
}

func (a *API) signIn(ctx context.Context, c request, in Login) (*Session, error) {
	if site := c.GetHeader("Sec-Fetch-Site"); site != "" && !sameSite(c.Request) {
		return nil, problem(http.StatusForbidden, "sign-in", "Another site may not sign you in",
			"the page that asks for it is not the service's own")
	}
	browser, _ := c.Cookie(browserCookie) // without it, the browser is not known
	who, how, err := a.service.Access.SignedIn(
		ctx,
		service.SignIn{Token: in.Token, Name: in.Name, Password: in.Password,
			Code: in.Code, Browser: browser, Address: c.RemoteIP()},
	)
	if err != nil {
		return nil, err
	}
	var last *catalog.Time
	from := ""
	if who.Account != nil {
		last, from = who.Account.SignedInAt, who.Account.SignedInFrom
	}
	old, _ := c.Cookie(cookieName) // without it, no session ends for this one
	secret, session, err := a.service.Access.BeginSession(ctx, service.Beginning{Who: who, How: how, Instead: old,
		Address: c.RemoteIP(), Agent: c.Request.UserAgent()})
	if err != nil {
		return nil, err
	}
	who.Session = session
	out := sessionOf(who)
	out.LastAt, out.LastFrom = last, from
	if in.Keep {
		out.Token = secret
		return &out, nil
	}
	a.setCookie(c, cookieName, secret, session.ExpiresAt.Time)
	if in.Name != "" {
		known, err := a.service.Access.KnowBrowser(ctx, who.Name)
		if err != nil {
			return nil, err
		}
		a.setCookie(c, browserCookie, known, time.Now().Add(180*24*time.Hour))
	}
	return &out, nil
}

// takePairing begins the session of a command line.
func (a *API) takePairing(ctx context.Context, c request, in PairingTaken) (*PairedSession, error) {
	who, err := a.service.Access.TakePairing(ctx, in.Code, in.Secret)
	if err != nil {
		return nil, err
	}
	if who == nil {
		return &PairedSession{Waits: true}, nil
	}
	secret, session, err := a.service.Access.BeginSession(
		ctx,
		service.Beginning{Who: who, How: "by the console, for a " +
			"command line", Address: c.RemoteIP(), Agent: c.Request.UserAgent()},
	)
	if err != nil {
		return nil, err
	}
	who.Session = session
	out := sessionOf(who)
	out.Token = secret
	return &PairedSession{Session: &out}, nil
}

// setCookie gives the browser a cookie that no script reads and that goes to no other site.
func (a *API) setCookie(c request, name, value string, expires time.Time) {
	http.SetCookie(c.Writer, &http.Cookie{Name: name, Value: value, Path: "/", Expires: expires, HttpOnly: true,
		SameSite: http.SameSiteStrictMode, Secure: overTLS(c.Request)})
}

func (a *API) signOut(ctx context.Context, c request) (none, error) {
	if who := c.who(); who.Session != nil {
		if err := a.service.Access.EndSession(ctx, who, who.Session.ID, false); err != nil {
			return none{}, err
		}
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: cookieName, Path: "/", MaxAge: -1, HttpOnly: true,
		SameSite: http.SameSiteStrictMode})
	return none{}, nil
}
