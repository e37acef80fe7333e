package identity

import (
	"context"
	"encoding/json"
	"errors"
	"log"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/emulator"
)

// Server is a provider. Its methods may be called at the same time.
type Server struct {
	Config Config
	Log    *log.Logger
	// Misbehave says what it does wrong; nil: nothing.
	Misbehave *misbehave.Follower

	keys  *keys
	state *state

	mu      sync.Mutex
	codes   map[string]*code   // by the code
	devices map[string]*device // by the device code
}

// Open returns a provider that keeps what must last in a folder.
func Open(dir string, c Config, log *log.Logger) (*Server, error) {
	if c.AccessLife == 0 {
		c.AccessLife = AccessLife
	}
	if c.RefreshLife == 0 {
		c.RefreshLife = RefreshLife
	}
	s := &Server{Config: c, Log: log, codes: map[string]*code{}, devices: map[string]*device{}}
	var err error
	if s.state, err = openState(dir); err != nil {
		return nil, err
	}
	s.keys, err = openKeys(dir)
	return s, err
}

func (s *Server) now() time.Time { return time.Now().Add(s.Misbehave.Rules().Clock) }

// Serve answers on a listener until the context ends.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	return emulator.ServeHTTP(ctx, l, s.Handler(), s.Log)
}

// The addresses, below the issuer's.
const (
	discoveryPath  = "/.well-known/openid-configuration"
	serverPath     = "/.well-known/oauth-authorization-server"
	keysPath       = "/keys"
	authorizePath  = "/authorize"
	tokenPath      = "/token"
	devicePath     = "/device"
	deviceCodePath = "/device/code"
	userinfoPath   = "/userinfo"
	introspectPath = "/introspect"
	revokePath     = "/revoke"
	logoutPath     = "/logout"
	signUpPath     = "/sign-up"
	forgotPath     = "/forgot"
	confirmPath    = "/confirm"
	resetPath      = "/reset"
	// Those of Neighbour's own, and of tests.
	ReadyPath    = "/-/ready"
	TokenPath    = "/-/token"
	RotatePath   = "/-/rotate"
	OverviewPath = "/-/overview"
	EndPath      = "/-/end"
)

// bodyLimit is how large a request may be, in bytes.
const bodyLimit = 1 << 20

// Handler returns the provider's answers.
func (s *Server) Handler() http.Handler {
	mux := http.NewServeMux()
	both := func(path string, f http.HandlerFunc) {
		mux.HandleFunc("GET "+path, f)
		mux.HandleFunc("POST "+path, f)
	}
	mux.HandleFunc("GET "+discoveryPath, s.discovery)
	mux.HandleFunc("GET "+serverPath, s.discovery)
	mux.HandleFunc("GET "+keysPath, func(w http.ResponseWriter, _ *http.Request) { answer(w, http.StatusOK, s.keys.public()) })
	both(authorizePath, s.authorize)
	mux.HandleFunc("POST "+tokenPath, s.token)
	mux.HandleFunc("POST "+deviceCodePath, s.deviceCode)
	both(devicePath, s.devicePage)
	both(userinfoPath, s.userinfo)
	mux.HandleFunc("POST "+introspectPath, s.introspect)
	mux.HandleFunc("POST "+revokePath, s.revoke)
	both(logoutPath, s.logout)
	both(signUpPath, s.signUp)
	both(forgotPath, s.forgot)
	both(resetPath, s.reset)
	mux.HandleFunc("GET "+confirmPath, s.confirm)
	mux.HandleFunc("GET /{$}", s.front)
	mux.HandleFunc("GET "+ReadyPath, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) })
	mux.HandleFunc("POST "+TokenPath, s.giveToken)
	mux.HandleFunc("POST "+RotatePath, s.rotate)
	mux.HandleFunc("GET "+OverviewPath, s.overview)
	mux.HandleFunc("POST "+EndPath, s.end)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !s.Config.answersTo(r.Host) {
			http.Error(w, "This name leads nowhere here.", http.StatusMisdirectedRequest)
			return
		}
		r.Body = http.MaxBytesReader(w, r.Body, bodyLimit)
		h := w.Header()
		h.Set("Cache-Control", "no-store")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		if strings.HasPrefix(r.URL.Path, "/-/") {
			if r.URL.Path != ReadyPath && emulator.Refused(w, r) {
				return
			}
			// A form of another page can't ask for JSON without a preflight, which isn't answered.
			if r.Method == http.MethodPost && r.Header.Get("Content-Type") != "application/json" {
				fail(w, http.StatusUnsupportedMediaType, "invalid_request", "the body is to be application/json")
				return
			}
			mux.ServeHTTP(w, r)
			return
		}
		if s.cross(w, r) {
			return
		}
		wait, fate := s.Misbehave.Rules().Draw()
		misbehave.Wait(r.Context(), wait)
		switch fate {
		case misbehave.Failed:
			fail(w, http.StatusInternalServerError, "server_error", "it misbehaves, as it was told to")
			return
		case misbehave.Throttled:
			w.Header().Set("Retry-After", "1")
			fail(w, http.StatusTooManyRequests, "temporarily_unavailable", "it misbehaves, as it was told to")
			return
		case misbehave.Cut:
			w = misbehave.CutOff(w)
		}
		mux.ServeHTTP(w, r)
	})
}

// cross lets pages of this machine call it (Fetch standard, CORS protocol). It reports whether
// the request is answered.
func (s *Server) cross(w http.ResponseWriter, r *http.Request) bool {
	origin := r.Header.Get("Origin")
	u, err := url.Parse(origin)
	if origin == "" || err != nil || !s.Config.isLocal(u.Hostname()) && !s.Config.declares(u) {
		return false
	}
	h := w.Header()
	h.Add("Vary", "Origin")
	h.Set("Access-Control-Allow-Origin", origin)
	if r.Method != http.MethodOptions || r.Header.Get("Access-Control-Request-Method") == "" {
		return false
	}
	h.Set("Access-Control-Allow-Methods", "GET, POST")
	h.Set("Access-Control-Allow-Headers", "Authorization, Content-Type")
	h.Set("Access-Control-Max-Age", "600")
	w.WriteHeader(http.StatusNoContent)
	return true
}

// issuer returns the address that a request has come by, which is the claim iss of what it is
// answered with: behind the gate that is a name.
func (s *Server) issuer(r *http.Request) string {
	proto := "http"
	if r.TLS != nil || r.Header.Get("X-Forwarded-Proto") == "https" {
		proto = "https"
	}
	return proto + "://" + r.Host
}

// Error is an answer of the protocol (RFC 6749, section 5.2).
type Error struct {
	Code string `json:"error"`
	Text string `json:"error_description,omitempty"`
	// Status is that of HTTP; 0: 400.
	Status int `json:"-"`
}

func (e *Error) Error() string { return e.Code + ": " + e.Text }

func refused(code, text string) *Error { return &Error{Code: code, Text: text} }

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

func fail(w http.ResponseWriter, status int, code, text string) {
	answer(w, status, &Error{Code: code, Text: text})
}

// failWith answers with an error, and has the log say why.
func (s *Server) failWith(w http.ResponseWriter, r *http.Request, err error) {
	e := &Error{Code: "server_error", Text: err.Error(), Status: http.StatusInternalServerError}
	if !errors.As(err, &e) {
		s.Log.Printf("error: %s: %v", r.URL.Path, err)
	} else {
		s.Log.Printf("refused: %s: %s", r.URL.Path, e)
	}
	status := e.Status
	if status == 0 {
		status = http.StatusBadRequest
	}
	if status == http.StatusUnauthorized {
		w.Header().Set("WWW-Authenticate", `Basic realm="identity"`)
	}
	answer(w, status, e)
}

// discovery tells what the provider offers (OpenID Connect Discovery 1.0, section 3; RFC 8414).
func (s *Server) discovery(w http.ResponseWriter, r *http.Request) {
	at := s.issuer(r)
	answer(w, http.StatusOK, map[string]any{
		"issuer":                                         at,
		"authorization_endpoint":                         at + authorizePath,
		"token_endpoint":                                 at + tokenPath,
		"userinfo_endpoint":                              at + userinfoPath,
		"jwks_uri":                                       at + keysPath,
		"introspection_endpoint":                         at + introspectPath,
		"revocation_endpoint":                            at + revokePath,
		"end_session_endpoint":                           at + logoutPath,
		"device_authorization_endpoint":                  at + deviceCodePath,
		"response_types_supported":                       []string{"code"},
		"response_modes_supported":                       []string{"query", "form_post"},
		"grant_types_supported":                          []string{"authorization_code", "refresh_token", "client_credentials", deviceGrant},
		"subject_types_supported":                        []string{"public"},
		"id_token_signing_alg_values_supported":          []string{"RS256"},
		"scopes_supported":                               []string{"openid", "profile", "email", "roles", "offline_access"},
		"claims_supported":                               []string{"sub", "name", "given_name", "family_name", "preferred_username", "email", "email_verified", "roles"},
		"token_endpoint_auth_methods_supported":          []string{"client_secret_basic", "client_secret_post", "none"},
		"code_challenge_methods_supported":               []string{"S256"},
		"prompt_values_supported":                        []string{"none", "login", "select_account", "consent"},
		"authorization_response_iss_parameter_supported": true,
		"request_parameter_supported":                    false,
		"request_uri_parameter_supported":                false,
	})
}
