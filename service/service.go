// Package service is the HTTP service: it serves the API and the console, and runs sweeps.
package service

import (
	"context"
	"io/fs"
	"net/http"
	"net/netip"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"airdrift/core/identify"
	"airdrift/spool"
	"airdrift/store"
	"airdrift/vault"
)

// Version is the version of the program and its API.
const Version = "0.1.0"

const (
	// maxBody is the largest request taken, in bytes: a register of 200,000 lines fits.
	maxBody = 64 << 20
	// maxRequests is how many requests are served at once.
	maxRequests = 256
)

// Config is what a Service is built of.
type Config struct {
	Store    *store.Store
	Vantages Vantages
	Spool    *spool.Spool
	Vault    *vault.Vault   // of the secrets in the store
	Token    string         // of the local command line
	Console  fs.FS          // the built console; nil serves none
	Public   []netip.Prefix // public networks that may be swept
	Secure   bool           // it is reached by TLS
}

// Service serves the API over an open store. Its sweeps end when it is closed.
type Service struct {
	store   *store.Store
	auth    *auth
	sweeper *sweeper
	console fs.FS
	public  []netip.Prefix
	secure  bool
	end     context.CancelFunc
}

// New builds a service and takes up what an earlier run of it left unfinished.
func New(ctx context.Context, config Config) (*Service, error) {
	auth, err := newAuth(config.Store, config.Token)
	if err != nil {
		return nil, err
	}
	base, end := context.WithCancel(context.WithoutCancel(ctx))
	s := &Service{
		store: config.Store, auth: auth, console: config.Console, public: config.Public, secure: config.Secure, end: end,
		sweeper: &sweeper{store: config.Store, spool: config.Spool, vantages: config.Vantages, rules: identify.Default(), vault: config.Vault, base: base, jobs: map[uint64]*job{}},
	}
	if err := s.sweeper.takeUp(ctx); err != nil {
		end()
		return nil, err
	}
	return s, nil
}

// Close stops all sweeps and waits until what they saw is written.
func (s *Service) Close() {
	s.end()
	s.sweeper.close()
}

// Handler serves the API, its description and the console.
func (s *Service) Handler() http.Handler {
	router := chi.NewRouter()
	router.Use(middleware.Recoverer, securityHeaders, middleware.Throttle(maxRequests), middleware.RequestSize(maxBody),
		http.NewCrossOriginProtection().Handler)
	s.register(humachi.New(router, apiConfig()))
	router.Get("/healthz", s.health)
	if s.console != nil {
		router.Handle("/*", consoleHandler(s.console))
	}
	return router
}

func apiConfig() huma.Config {
	config := huma.DefaultConfig("Airdrift", Version)
	config.Info.Description = "Sweeps building networks, identifies devices and reports the inventory of unmanaged devices."
	config.DocsPath = ""     // the page would come from another host
	config.CreateHooks = nil // no $schema links in answers
	config.SchemasPath = ""
	return config
}

func (s *Service) register(humaAPI huma.API) {
	humaAPI.UseMiddleware(s.guard(humaAPI))
	s.registerSession(humaAPI)
	s.registerUsers(humaAPI)
	s.registerFooting(humaAPI)
	s.registerFence(humaAPI)
	s.registerSites(humaAPI)
	s.registerSweeps(humaAPI)
	s.registerDevices(humaAPI)
	s.registerRegister(humaAPI)
	s.registerCredentials(humaAPI)
	s.registerRules(humaAPI)
	s.registerLeases(humaAPI)
}

// securityHeaders keeps the console from being framed, and its pages from loading anything from elsewhere.
func securityHeaders(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		next.ServeHTTP(w, r)
	})
}

func (s *Service) health(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 5*time.Second)
	defer cancel()
	if err := s.store.Ping(ctx); err != nil {
		http.Error(w, "the database does not answer", http.StatusServiceUnavailable)
		return
	}
	_, _ = w.Write([]byte("ok\n"))
}
