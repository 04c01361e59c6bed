// Package service is the HTTP service: it serves the API and the console, and runs sweeps.
package service

import (
	"context"
	"io/fs"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"airdrift/books"
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
	// maxRequests is how many requests to the API are served at once, and maxOfClient how many of one client.
	maxRequests = 256
	maxOfClient = 64
	// maxStreams is how many streams of events are open at once, and maxStreamsOfClient how many of one client.
	maxStreams, maxStreamsOfClient = 512, 64
	// maxUploadsOfClient is how many of one client's may be long ones that are still coming in.
	maxUploadsOfClient = 8
	// maxFilesOfClient is the same for files and health: more than the connections of a client, so that only one who asks for
	// many at once on each finds an end.
	maxFilesOfClient = 2 * maxConns
	// answerWait is how long an answer may take altogether; a stream of events is given more time with each event.
	answerWait = 15 * time.Minute
	// importWait is how long a file may take to come in.
	importWait = 10 * time.Minute
)

// Config is what a Service is built of.
type Config struct {
	Store    *store.Store
	Vantages Vantages
	Spool    *spool.Spool
	Vault    *vault.Vault   // of the secrets in the store
	Console  fs.FS          // the built console; nil serves none
	Public   []netip.Prefix // public networks that may be swept
	Secure   bool           // it is reached by TLS
	Proxies  []netip.Prefix // proxies whose word of where a request came from is believed

	SecondFactor bool          // everybody who signs in by password needs a second factor
	Idle         time.Duration // after which a session that nobody uses ends; 0 for DefaultIdle
	AuditKept    time.Duration // for how long lines of the audit log are kept; 0 for DefaultAuditKept
	PasswordSet  func()        // called when the first user's password was changed; may be nil
}

// Service serves the API over an open store. Its sweeps end when it is closed.
type Service struct {
	store   *store.Store
	auth    *auth
	books   *books.Books
	sweeper *sweeper
	console fs.FS
	public  publicNetworks
	// importing has room for one: files are read in one after the other.
	importing   chan struct{}
	reporting   chan struct{} // has room for two, as a report is made in memory of all that is known of a site
	secure      bool
	proxies     []netip.Prefix
	refusals    refusals
	pending     sync.Map // by the number of a user, the secret of a second factor that is not turned on yet
	clients     clients  // of the API
	readers     clients  // of files and health
	streams     clients  // of streams of events
	uploads     clients  // of long requests that are still coming in
	passwordSet func()   // when the first user's password was changed; nil for nothing
	end         context.CancelFunc
}

// New builds a service, and takes up in the background what an earlier run of it left unfinished.
func New(ctx context.Context, config Config) (*Service, error) {
	auth, err := newAuth(config)
	if err != nil {
		return nil, err
	}
	keeper := books.New(config.Store, identify.Default())
	base, end := context.WithCancel(context.WithoutCancel(ctx))
	s := &Service{
		importing: make(chan struct{}, 1),
		reporting: make(chan struct{}, 2),
		books:     keeper,
		store:     config.Store, auth: auth, console: config.Console, public: config.Public, secure: config.Secure, proxies: config.Proxies, passwordSet: config.PasswordSet, end: end,
		sweeper: &sweeper{store: config.Store, spool: config.Spool, vantages: config.Vantages, books: keeper, vault: config.Vault, public: config.Public, base: base, jobs: map[uint64]*job{}, closed: map[uint64]bool{}, takenUp: make(chan struct{})},
	}
	for _, clear := range []func(context.Context) error{
		func(ctx context.Context) error { return config.Store.RemoveImports(ctx) }, config.Store.ForgetBegun, // of an earlier run, which nobody waits for
	} {
		if err := clear(ctx); err != nil {
			return nil, err
		}
	}
	left, err := s.sweeper.interrupt(ctx)
	if err != nil {
		end()
		return nil, err
	}
	s.sweeper.running.Go(func() {
		s.sweeper.takeUp(base, left)
		s.sweeper.keepRenewing(base)
	})
	s.sweeper.running.Go(func() { s.sweeper.keepEvidence(base) })
	s.sweeper.running.Go(func() { s.keepJudging(base) })
	s.sweeper.running.Go(func() { s.keepAudit(base, config.AuditKept) })
	return s, nil
}

// WaitTakenUp waits until what an earlier run of the service has left is entered, or ctx ends.
func (s *Service) WaitTakenUp(ctx context.Context) error {
	select {
	case <-s.sweeper.takenUp:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Close stops all sweeps and waits until what they saw is written.
func (s *Service) Close() {
	s.end()
	s.sweeper.close()
}

// Handler serves the API, its description and the console. What costs nothing, files and health, does not wait behind the rest.
func (s *Service) Handler() http.Handler {
	router := chi.NewRouter()
	router.Use(middleware.Recoverer, s.securityHeaders, s.ownHost, answerInTime)
	if len(s.proxies) > 0 {
		router.Use(middleware.ClientIPFromXFF(prefixTextList(s.proxies)...))
	}
	router.Group(func(r chi.Router) {
		r.Use(s.admit, throttle, limitBody, http.NewCrossOriginProtection().Handler)
		s.register(humachi.New(r, apiConfig()))
	})
	router.Group(func(r chi.Router) {
		r.Use(s.readers.share(maxFilesOfClient))
		r.Get("/healthz", s.health)
		if s.console != nil {
			r.Handle("/*", consoleHandler(s.console))
		}
	})
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
	humaAPI.UseMiddleware(s.guard(humaAPI), s.carryOutOnce(humaAPI))
	s.registerSession(humaAPI)
	s.registerSecondFactor(humaAPI)
	s.registerUsers(humaAPI)
	s.registerFooting(humaAPI)
	s.registerFence(humaAPI)
	s.registerSites(humaAPI)
	s.registerSweeps(humaAPI)
	s.registerDevices(humaAPI)
	s.registerFields(humaAPI)
	s.registerChanges(humaAPI)
	s.registerFindings(humaAPI)
	s.registerCompleteness(humaAPI)
	s.registerActs(humaAPI)
	s.registerViews(humaAPI)
	s.registerReports(humaAPI)
	s.registerPictures(humaAPI)
	s.registerMetrics(humaAPI)
	s.registerTenures(humaAPI)
	s.registerTimes(humaAPI)
	s.registerFirmware(humaAPI)
	s.registerOpenness(humaAPI)
	s.registerSweepFiles(humaAPI)
	s.registerBackup(humaAPI)
	s.registerGrouping(humaAPI)
	s.registerRegister(humaAPI)
	s.registerCredentials(humaAPI)
	s.registerRules(humaAPI)
	s.registerLeases(humaAPI)
	s.registerKeeping(humaAPI)
	nameFields(humaAPI.OpenAPI())
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
