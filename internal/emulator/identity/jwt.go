package identity

import (
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// The types of tokens, as their headers have them.
const (
	idToken     = "JWT"
	accessToken = "at+jwt" // RFC 9068, section 2.1
)

func hasScope(scope, one string) bool { return slices.Contains(strings.Fields(scope), one) }

// about are the claims about a person that a scope has (OpenID Connect Core 1.0, section 5.4).
func (a *account) about(scope string) map[string]any {
	out := map[string]any{"sub": a.ID()}
	if hasScope(scope, "profile") {
		out["name"] = a.Name
		out["preferred_username"] = a.Email
		if first, last, ok := strings.Cut(a.Name, " "); ok {
			out["given_name"], out["family_name"] = first, last
		}
	}
	if hasScope(scope, "email") && a.Email != "" {
		out["email"], out["email_verified"] = a.Email, a.Verified
	}
	if hasScope(scope, "roles") || hasScope(scope, "profile") {
		out["roles"] = append([]string{}, a.Roles...)
	}
	for name, text := range a.Claims {
		if _, has := out[name]; !has && !slices.Contains(protocolClaims, name) {
			out[name] = claim(text)
		}
	}
	return out
}

// protocolClaims are those that the protocol fills.
var protocolClaims = []string{"iss", "sub", "aud", "exp", "iat", "nbf", "jti", "azp", "nonce", "auth_time", "at_hash", "sid", "scope", "client_id", "acr", "amr"}

func sign(k *key, kind string, claims map[string]any) (string, error) {
	return jwt.Signed(k.signer[kind]).Claims(claims).Serialize()
}

// tokens are an answer of the token endpoint (RFC 6749, section 5.1).
type tokens struct {
	Access  string `json:"access_token"`
	Type    string `json:"token_type"`
	Expires int64  `json:"expires_in"`
	Refresh string `json:"refresh_token,omitempty"`
	ID      string `json:"id_token,omitempty"`
	Scope   string `json:"scope,omitempty"`
}

// issue signs what a grant is good for.
func (s *Server) issue(g *grant, person *account, issuer string) (*tokens, error) {
	now, k := s.now(), s.keys.current()
	access, err := sign(k, accessToken, s.accessClaims(g, person, issuer, now))
	if err != nil {
		return nil, err
	}
	t := &tokens{Access: access, Type: "Bearer", Expires: int64(s.Config.AccessLife.Seconds()), Scope: g.Scope}
	if person != nil && hasScope(g.Scope, "openid") {
		if t.ID, err = sign(k, idToken, s.idClaims(g, person, issuer, access, now)); err != nil {
			return nil, err
		}
	}
	return t, nil
}

func (s *Server) accessClaims(g *grant, person *account, issuer string, now time.Time) map[string]any {
	audience := g.Resource
	if audience == "" {
		audience = g.Client
		if c, ok := s.Config.client(g.Client); ok && c.Audience != "" {
			audience = c.Audience
		}
	}
	claims := map[string]any{"iss": issuer, "sub": g.Client, "aud": audience, "client_id": g.Client, "scope": g.Scope, "jti": randomText(12), "sid": g.ID,
		"iat": now.Unix(), "nbf": now.Unix(), "exp": now.Add(s.Config.AccessLife).Unix()}
	if person != nil {
		for name, v := range person.about("roles") {
			claims[name] = v
		}
		if hasScope(g.Scope, "email") {
			claims["email"] = person.Email
		}
	}
	return claims
}

func (s *Server) idClaims(g *grant, person *account, issuer, access string, now time.Time) map[string]any {
	claims := person.about(g.Scope)
	half := sha256.Sum256([]byte(access))
	maps.Copy(claims, map[string]any{"iss": issuer, "aud": g.Client, "iat": now.Unix(), "exp": now.Add(s.Config.AccessLife).Unix(), "sid": g.ID,
		"at_hash": base64.RawURLEncoding.EncodeToString(half[:16])})
	if g.Auth > 0 {
		claims["auth_time"] = g.Auth
	}
	if g.Nonce != "" {
		claims["nonce"] = g.Nonce
	}
	return claims
}

var (
	errSignature = errors.New("it is not signed by a key of this provider with RS256")
	errIssuer    = errors.New("another issuer has made it")
	errExpired   = errors.New("it has expired")
	errEarly     = errors.New("it does not hold yet")
	errRevoked   = errors.New("it was revoked")
)

// read checks a token of this provider's, of one of the types. Only RS256 is taken: a token
// that says that it has no signature is none.
func (s *Server) read(token string, kinds ...string) (map[string]any, error) {
	parsed, err := jwt.ParseSigned(token, []jose.SignatureAlgorithm{jose.RS256})
	if err != nil || len(parsed.Headers) != 1 {
		return nil, errSignature
	}
	kind, _ := parsed.Headers[0].ExtraHeaders[jose.HeaderType].(string)
	if !slices.Contains(kinds, kind) {
		return nil, errSignature
	}
	var claims map[string]any
	public := s.keys.public()
	found := public.Key(parsed.Headers[0].KeyID)
	if len(found) != 1 || parsed.Claims(found[0].Key, &claims) != nil {
		return nil, errSignature
	}
	return claims, nil
}

// readAccess checks an access token, and returns its claims and its grant.
func (s *Server) readAccess(token string) (map[string]any, *grant, error) {
	claims, err := s.read(token, accessToken)
	if err != nil {
		return nil, nil, err
	}
	now := s.now().Unix()
	issuer, _ := claims["iss"].(string)
	number := func(name string) int64 { f, _ := claims[name].(float64); return int64(f) }
	switch u, err := url.Parse(issuer); {
	case err != nil || !s.Config.answersTo(u.Host):
		return claims, nil, errIssuer
	case number("exp") <= now:
		return claims, nil, errExpired
	case number("nbf") > now:
		return claims, nil, errEarly
	}
	jti, _ := claims["jti"].(string)
	sid, _ := claims["sid"].(string)
	var g *grant
	s.state.look(func() {
		if _, revoked := s.state.Revoked[jti]; revoked {
			err = errRevoked
		}
		if own := s.state.Grants[sid]; own != nil && !own.Revoked {
			c := *own
			g = &c
		}
	})
	if err == nil && g == nil {
		err = errRevoked
	}
	return claims, g, err
}
