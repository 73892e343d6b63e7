// Package app puts store, gate, web and stand-ins together: the service and the
// demo.
package app

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"
	"time"

	"github.com/gofiber/fiber/v3"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate"
	"innergate.example/innergate/internal/gate/mailing"
	"innergate.example/innergate/internal/store"
	"innergate.example/innergate/internal/web"
)

// Version is set by the build.
var Version = "dev"

// service is a gate that listens.
type service struct {
	gate   *gate.Gate
	store  *store.Store
	web    *fiber.App
	failed chan error
	log    *slog.Logger
}

type serviceOptions struct {
	base, data, sealKey string
	skew                time.Duration
	sessionLife         time.Duration
	sessionIdle         time.Duration
	networks            []netip.Prefix
	metrics             []netip.Prefix
	proxies             []netip.Prefix
	traces              store.TraceLimits
	publisher           federation.Publisher
	mail                mailing.Server
	allowHTTP           bool
	publicMail          federation.MailDomains
	events              EventConfig
	tour                web.Tour // nil for none
	log                 *slog.Logger
}

// startService opens the store and serves on a listener.
func startService(ctx context.Context, o serviceOptions, ln net.Listener) (*service, error) {
	steady()
	st, err := store.Open(o.data, o.sealKey, o.traces, o.log)
	if err != nil {
		return nil, err
	}
	g, err := gate.New(ctx, gate.Options{Base: o.base, Store: st, Log: o.log, Skew: o.skew, SessionLife: o.sessionLife,
		SessionIdle: o.sessionIdle, AllowNetworks: o.networks,
		AllowHTTP: o.allowHTTP, Publisher: o.publisher, Mail: o.mail, PublicMail: o.publicMail,
		Protocols: Protocols(), Portal: Portal, EventToken: eventToken, Busy: collectMore,
		EventsKeep: time.Duration(o.events.Days) * 24 * time.Hour,
		EventsMost: int64(o.events.Keep)})
	if err != nil {
		return nil, errors.Join(err, st.Close())
	}
	s := &service{gate: g, store: st, log: o.log, failed: make(chan error, 1),
		web: web.New(web.Options{Gate: g, Log: o.log, Version: Version, MetricsNetworks: o.metrics, Proxies: o.proxies,
			Protocols: Protocols(), Endpoints: Endpoints(), Tour: o.tour})}
	g.Unattended.Serves(inside(s.web))
	go func() { s.failed <- s.web.Listener(framed{ln}, fiber.ListenConfig{DisableStartupMessage: true}) }()
	return s, nil
}

// memoryGoal is what the service tries to stay below, in octets, where GOMEMLIMIT
// says nothing: the nearer it comes, the more often memory is collected. Beside it stand some hundred MB that it does
// not count, the pages of the databases above all; together they stay below the 500 MB that are promised.
const memoryGoal = 320 << 20

// collects is how much is made anew before memory is collected, in percent of what is in use, where GOGC says nothing:
// a gate has little in use and makes much that lives for one request. A crossing took 7 % less of the processor by it
// than by Go's usual 100, below the same goal. While a job runs, which makes much that stays for as long as it does,
// it is the usual: an aggregate of 100 MB took 150 MB more of memory by the other.
const collects, collectsAtWork = 300, 100

// steady keeps the process from ending by signals that mean something else: a
// terminal that is closed, a reader of the log that is gone.
func steady() {
	signal.Ignore(syscall.SIGHUP, syscall.SIGPIPE)
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memoryGoal)
	}
	collectMore(false)
}

// collectMore has memory collected at Go's usual pace while jobs run, else at the service's own. GOGC goes before both.
func collectMore(busy bool) {
	switch {
	case os.Getenv("GOGC") != "":
	case busy:
		debug.SetGCPercent(collectsAtWork)
	default:
		debug.SetGCPercent(collects)
	}
}

// stop lets requests finish, then closes everything.
func (s *service) stop() error {
	err := s.web.ShutdownWithTimeout(10 * time.Second)
	s.gate.Close()
	return errors.Join(err, s.store.Close())
}

// wait serves until the context ends.
func (s *service) wait(ctx context.Context) error {
	select {
	case err := <-s.failed:
		return errors.Join(err, s.stop())
	case <-ctx.Done():
		s.log.Info("stopping")
		return s.stop()
	}
}

// listen opens an address; the error says what to do when it is taken.
func listen(address string) (net.Listener, error) {
	ln, err := net.Listen("tcp", address)
	if err != nil {
		return nil, &ConfigError{fmt.Sprintf("cannot listen on %s: %v", address, err),
			"Stop what uses the port, or choose another address."}
	}
	return ln, nil
}

// Serve runs the real service until the context ends.
func Serve(ctx context.Context, path string) error {
	c, err := LoadConfig(path, os.Environ())
	if err != nil {
		return err
	}
	skew, err := c.skew()
	if err != nil {
		return err
	}
	life, idle, err := c.Session.lives()
	if err != nil {
		return err
	}
	fetchFrom, err := networks("fetch.allowNetworks", c.Fetch.AllowNetworks)
	if err != nil {
		return err
	}
	metrics, err := networks("metrics.allowNetworks", c.Metrics.AllowNetworks)
	if err != nil {
		return err
	}
	proxies, err := networks("proxies", c.Proxies)
	if err != nil {
		return err
	}
	ln, err := listen(c.Listen)
	if err != nil {
		return err
	}
	log := c.logger()
	ln = newBounded(ln, proxies, log)
	if c.TLS.Certificate != "" {
		pair, err := tls.LoadX509KeyPair(c.TLS.Certificate, c.TLS.Key)
		if err != nil {
			return &ConfigError{"tls: " + err.Error(), "Give the certificate chain and its key in PEM."}
		}
		ln = tls.NewListener(ln, &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12})
	}
	server, err := c.Mail.server()
	if err != nil {
		return err
	}
	public, err := c.publicMail()
	if err != nil {
		return err
	}
	s, err := startService(ctx, serviceOptions{base: c.Base, events: c.Events, publicMail: public, mail: server,
		data: c.Data, sealKey: c.SealKey, skew: skew,
		sessionLife: life, sessionIdle: idle,
		networks: fetchFrom, metrics: metrics, proxies: proxies,
		publisher: federation.Publisher{Organisation: c.Publisher.Organisation, URL: c.Publisher.URL,
			Contact: c.Publisher.Contact, Mail: c.Publisher.Mail,
			Policy: c.Publisher.Policy}, traces: store.TraceLimits{Keep: c.Traces.Keep,
			Age: time.Duration(c.Traces.Days) * 24 * time.Hour, Octets: int64(c.Traces.Megabytes) << 20,
			Strangers: c.Traces.Strangers},
		allowHTTP: c.Fetch.AllowHTTP, log: log}, ln)
	if err != nil {
		return errors.Join(err, ln.Close())
	}
	log.Info("serving", "base", s.gate.Base(), "listen", ln.Addr().String(), "console", s.gate.Base()+"/console/")
	has, err := s.gate.Operators.HasOwner(ctx)
	if err == nil && !has {
		var link string
		if link, err = s.gate.Operators.SetupLink(ctx); err == nil {
			fmt.Printf("Nobody owns this gate yet. Open this link once to set up the first owner:\n  %s\n", link)
		}
	}
	if err != nil {
		return errors.Join(err, s.stop())
	}
	return s.wait(ctx)
}
