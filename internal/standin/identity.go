package standin

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Identity is an identity provider (OpenID Connect, the authorization code flow with PKCE) that lets whoever comes be
// any of its people. It forgets all when it ends.
type Identity struct {
	Address        string // of its own, as clients have it
	Client, Secret string // the one client that it knows
	People         map[string]Identified
	Alter          func(claims map[string]any) // of what it says of a person; nil: nothing is
	Forge          *rsa.PrivateKey             // it signs with this one, which it does not name; nil: with its own

	mu    sync.Mutex
	key   *rsa.PrivateKey
	codes map[string]asked
}

// Identified is what is said of a person.
type Identified struct {
	Subject, Name, Email string
	Groups               []string
}

type asked struct {
	person, nonce, challenge, redirect string
}

func (p *Identity) own() *rsa.PrivateKey {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.key == nil {
		p.key, _ = rsa.GenerateKey(rand.Reader, 2048) // it never fails
		p.codes = map[string]asked{}
	}
	return p.key
}

const keyName = "the-key"

// ServeHTTP answers clients and browsers.
func (p *Identity) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	key := p.own()
	switch r.URL.Path {
	case "/.well-known/openid-configuration":
		answerJSON(w, map[string]any{"issuer": p.Address, "authorization_endpoint": p.Address + "/authorize",
			"token_endpoint": p.Address + "/token", "jwks_uri": p.Address + "/keys",
			"response_types_supported":              []string{"code"},
			"subject_types_supported":               []string{"public"},
			"id_token_signing_alg_values_supported": []string{"RS256"}})
	case "/keys":
		answerJSON(
			w,
			jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: &key.PublicKey, KeyID: keyName, Algorithm: "RS256",
				Use: "sig"}}},
		)
	case "/authorize":
		p.authorize(w, r)
	case "/token":
		if err := p.token(w, r); err != nil {
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(http.StatusBadRequest)
			json.NewEncoder(w).Encode(map[string]string{"error": "invalid_grant", "error_description": err.Error()})
		}
	default:
		http.NotFound(w, r)
	}
}

func answerJSON(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(v)
}

// authorize asks who somebody is, and sends them back.
func (p *Identity) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	if q.Get("client_id") != p.Client || q.Get("response_type") != "code" || q.Get("code_challenge_method") != "S256" {
		http.Error(
			w,
			"the client is not known, or asks for something else than a code with PKCE",
			http.StatusBadRequest,
		)
		return
	}
	person := q.Get("person")
	if _, known := p.People[person]; !known {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprint(w, "<!doctype html><title>Who are you?</title><h1>Who are you?</h1>")
		for _, name := range slices.Sorted(maps.Keys(p.People)) {
			q.Set("person", name)
			fmt.Fprintf(
				w,
				"<p><a href=\"/authorize?%s\">%s</a></p>",
				html.EscapeString(q.Encode()),
				html.EscapeString(name),
			)
		}
		return
	}
	code := rand.Text()
	p.mu.Lock()
	p.codes[code] = asked{person, q.Get("nonce"), q.Get("code_challenge"), q.Get("redirect_uri")}
	p.mu.Unlock()
	http.Redirect(w, r, q.Get("redirect_uri")+"?"+url.Values{"code": {code}, "state": {q.Get("state")}}.Encode(),
		http.StatusFound)
}

// token gives a client what a code stands for, once.
func (p *Identity) token(w http.ResponseWriter, r *http.Request) error {
	if err := r.ParseForm(); err != nil {
		return err
	}
	client, secret, basic := r.BasicAuth()
	if !basic {
		client, secret = r.PostForm.Get("client_id"), r.PostForm.Get("client_secret")
	}
	if client != p.Client || secret != p.Secret {
		return errors.New("the client is not known")
	}
	p.mu.Lock()
	a, known := p.codes[r.PostForm.Get("code")]
	delete(p.codes, r.PostForm.Get("code"))
	p.mu.Unlock()
	sum := sha256.Sum256([]byte(r.PostForm.Get("code_verifier")))
	if !known || base64.RawURLEncoding.EncodeToString(sum[:]) != a.challenge ||
		r.PostForm.Get("redirect_uri") != a.redirect {
		return errors.New("the code is not known, or was asked for by another")
	}
	is := p.People[a.person]
	now := time.Now()
	claims := map[string]any{"iss": p.Address, "sub": is.Subject, "aud": p.Client, "iat": now.Unix(),
		"exp": now.Add(5 * time.Minute).Unix(), "nonce": a.nonce, "preferred_username": a.person, "name": is.Name,
		"email": is.Email, "groups": is.Groups}
	if p.Alter != nil {
		p.Alter(claims)
	}
	key := p.own()
	if p.Forge != nil {
		key = p.Forge
	}
	signer, err := jose.NewSigner(
		jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: key, KeyID: keyName}},
		(&jose.SignerOptions{}).WithType("JWT"),
	)
	if err != nil {
		return err
	}
	b, err := json.Marshal(claims)
	if err != nil {
		return err
	}
	signed, err := signer.Sign(b)
	if err != nil {
		return err
	}
	text, err := signed.CompactSerialize()
	if err != nil {
		return err
	}
	answerJSON(
		w,
		map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": 300, "id_token": text},
	)
	return nil
}
