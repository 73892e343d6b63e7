package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/google/renameio/v2"

	"innergate.example/innergate/demo"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/mailing"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/standin"
	"innergate.example/innergate/internal/store"
)

type scenario struct {
	Owner struct {
		Username string `yaml:"username"`
		Password string `yaml:"password"`
	} `yaml:"owner"`
	Providers    []scenarioProvider    `yaml:"providers"`
	Applications []scenarioApplication `yaml:"applications"`
	Groups       []scenarioUnit        `yaml:"groups"`
	Rules        []scenarioRule        `yaml:"rules"`
	Selection    []scenarioRule        `yaml:"selection"`
	Roles        []scenarioRule        `yaml:"roles"`
	Starts       []scenarioRule        `yaml:"starts"`
	Rehearsals   []scenarioRule        `yaml:"rehearsals"`
	Portal       federation.Settings   `yaml:"portal"`
	Pilots       []struct {
		Provider string `yaml:"provider"`
		Cohort   string `yaml:"cohort"`
		Days     int    `yaml:"days"`  // until it opens to everybody
		Clock    string `yaml:"clock"` // at what time of that day, with its zone
	} `yaml:"pilots"`
	Organisations []scenarioUnit `yaml:"organisations"`
	Federations   []struct {
		Name     string `yaml:"name"`
		Title    string `yaml:"title"`
		Entities int    `yaml:"entities"`
	} `yaml:"federations"`
	People []standin.Person `yaml:"people"`
}

// scenarioRule is an access rule, one of provider selection, a role, a starting point, or a rehearsal.
type scenarioRule struct {
	Name        string              `yaml:"name"`
	Application string              `yaml:"application"`
	Person      string              `yaml:"person"` // words by which one person is found
	Days        int                 `yaml:"days"`   // until its end, 0 for none
	Settings    federation.Settings `yaml:"settings"`
}

// scenarioUnit is a group or an organisation.
type scenarioUnit struct {
	Name      string            `yaml:"name"`
	Title     string            `yaml:"title"`
	Notes     string            `yaml:"notes"`
	UserType  string            `yaml:"userType"`
	Inside    federation.Name   `yaml:"inside"`
	Values    []string          `yaml:"values"`
	Providers []federation.Name `yaml:"providers"`
	Domains   []string          `yaml:"domains"`
	Groups    []federation.Name `yaml:"groups"`
}

type scenarioProvider struct {
	Settings federation.Settings `yaml:"settings"`

	Name     string `yaml:"name"`
	Title    string `yaml:"title"`
	Protocol string `yaml:"protocol"`
	EntityID string `yaml:"entityId"`
	// Of OpenID Connect and OAuth 2.0.
	ClientID     string           `yaml:"clientId"`
	ClientSecret string           `yaml:"clientSecret"`
	SecretID     string           `yaml:"secretId"`
	Domain       string           `yaml:"domain"`
	Scopes       string           `yaml:"scopes"`
	Identifier   string           `yaml:"identifier"`
	People       []standin.Person `yaml:"people"`
}

type scenarioApplication struct {
	Name          string              `yaml:"name"`
	Title         string              `yaml:"title"`
	Protocol      string              `yaml:"protocol"`
	Provider      string              `yaml:"provider"`
	EntityID      string              `yaml:"entityId"`
	OnlyOwnStarts bool                `yaml:"onlyOwnStarts"`
	Text          string              `yaml:"text"` // of a page that a link leads to, or the description
	Kind          string              `yaml:"kind"` // of an OpenID Connect application, and so on
	ClientID      string              `yaml:"clientId"`
	ClientSecret  string              `yaml:"clientSecret"`
	Scopes        string              `yaml:"scopes"`
	Resources     string              `yaml:"resources"`
	Audience      string              `yaml:"audience"` // of its own API
	Settings      federation.Settings `yaml:"settings"`
	// Accounts are those that it keeps itself.
	Accounts *standin.Accounts `yaml:"accounts"`
}

// Ready is what the demo writes to the --ready file when all is up.
type Ready struct {
	Base    string `json:"base"`
	Console string `json:"console"`
	Token   string `json:"token"`
	Owner   struct {
		Username string `json:"username"`
		Password string `json:"password"`
	} `json:"owner"`
	Providers    []ReadyProvider    `json:"providers"`
	Applications []ReadyApplication `json:"applications"`
	Federations  []ReadyFederation  `json:"federations"`
	Mailbox      string             `json:"mailbox"`   // page of the stand-in mail server
	Recipient    string             `json:"recipient"` // page of the stand-in that is told what is done to people
}

// ReadyFederation is a stand-in publisher of an aggregate.
type ReadyFederation struct {
	Name        string `json:"name"`
	Metadata    string `json:"metadata"`
	Certificate string `json:"certificate"` // address of the one it signs with
}

// ReadyProvider is a stand-in provider of the demo.
type ReadyProvider struct {
	Name     string        `json:"name"`
	Protocol string        `json:"protocol"`
	Metadata string        `json:"metadata,omitempty"`
	Issuer   string        `json:"issuer,omitempty"`
	Home     string        `json:"home"` // its page for people
	People   []ReadyPerson `json:"people"`
}

// ReadyPerson is somebody who can sign in.
type ReadyPerson struct {
	Username string `json:"username"`
	Password string `json:"password"`
}

// ReadyApplication is a stand-in application of the demo.
type ReadyApplication struct {
	Name     string `json:"name"`
	Protocol string `json:"protocol"`
	Start    string `json:"start,omitempty"`
	Metadata string `json:"metadata,omitempty"`
	ClientID string `json:"clientId,omitempty"`
}

// DemoOptions are the options of innergate demo.
type DemoOptions struct {
	Data   string // "" for a temporary directory
	Listen string // of the gate; stand-ins take the ports after it
	Ready  string // file to write when all is up
	// Tour has the demo go through the tour by itself, tell of it here, and end.
	Tour io.Writer
	Log  *slog.Logger
}

// People gives the people of the demo scenario.
func People() ([]standin.Person, error) {
	sc, err := readScenario()
	if err != nil {
		return nil, err
	}
	return sc.People, nil
}

func readScenario() (*scenario, error) {
	sc := &scenario{}
	return sc, yaml.Unmarshal(demo.Scenario, sc)
}

// Demo runs the gate with the demo data and the stand-ins until the context
// ends.
func Demo(ctx context.Context, o DemoOptions) (err error) {
	sc, err := readScenario()
	if err != nil {
		return err
	}
	if o.Data == "" {
		if o.Data, err = os.MkdirTemp("", "innergate-demo-"); err != nil {
			return err
		}
		defer func() { err = errors.Join(err, os.RemoveAll(o.Data)) }()
	}
	ln, err := listen(o.Listen)
	if err != nil {
		return err
	}
	base := "http://" + ln.Addr().String()
	box, post, err := mailbox()
	if err != nil {
		return errors.Join(err, ln.Close())
	}
	defer box.Close()
	public, err := (&Config{}).publicMail()
	if err != nil {
		return errors.Join(err, ln.Close())
	}
	tour := &Tour{sc: sc}
	s, err := startService(ctx, serviceOptions{base: base, tour: tour, publicMail: public, mail: post,
		data:    filepath.Join(o.Data, "data"),
		sealKey: filepath.Join(o.Data, "seal.key"),
		skew:    time.Minute, allowHTTP: true, publisher: federation.Publisher{Organisation: "Wrenmoor Rail",
			URL: "https://wrenmoor.example", Contact: "Signal box", Mail: "signal-box@wrenmoor.example",
			Policy: "https://wrenmoor.example/privacy"},
		traces: store.TraceLimits{Keep: 10000}, metrics: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")},
		networks: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8"),
			netip.MustParsePrefix("::1/128")}, log: o.Log}, newBounded(ln, nil, o.Log))
	if err != nil {
		return errors.Join(err, ln.Close())
	}
	d := &running{options: o, service: s, next: nextPorts(ln), box: box}
	defer d.stop()
	if err := d.fill(ctx, sc); err != nil {
		return errors.Join(err, s.stop())
	}
	tour.up(d)
	if o.Ready != "" {
		octets, err := json.MarshalIndent(d.ready, "", "  ")
		if err == nil {
			err = renameio.WriteFile(o.Ready, append(octets, '\n'), 0o600)
		}
		if err != nil {
			return errors.Join(err, s.stop())
		}
	}
	if o.Tour != nil {
		return errors.Join(tour.walk(ctx, o.Tour), s.stop())
	}
	d.say(sc)
	return s.wait(ctx)
}

// running is the demo while it runs.
type running struct {
	options DemoOptions
	service *service
	next    func() string
	servers []*http.Server
	ready   Ready
	added   []string // providers and applications that this run added
	box     *standin.Mailbox
}

// mailbox starts the stand-in mail server, and says how mail is handed in there.
func mailbox() (*standin.Mailbox, mailing.Server, error) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, mailing.Server{}, err
	}
	box := &standin.Mailbox{}
	box.Start(ln)
	return box, mailing.Server{Address: ln.Addr().String(), From: "Wrenmoor Rail <gate@wrenmoor.example>",
		TLS: mailing.TLSNone}, nil
}

// nextPorts gives the addresses for the stand-ins: the ports after the gate's,
// or free ones if the gate's port was chosen by the system.
func nextPorts(ln net.Listener) func() string {
	a := ln.Addr().(*net.TCPAddr)
	port := a.Port
	return func() string {
		port++
		return net.JoinHostPort(a.IP.String(), fmt.Sprint(port))
	}
}

// serve starts a stand-in and gives its base address.
func (d *running) serve(make func(base string) (http.Handler, error)) (string, error) {
	var ln net.Listener
	var err error
	if strings.HasSuffix(d.options.Listen, ":0") {
		host, _, _ := net.SplitHostPort(d.options.Listen)
		ln, err = listen(net.JoinHostPort(host, "0"))
	} else {
		ln, err = listen(d.next())
	}
	if err != nil {
		return "", err
	}
	base := "http://" + ln.Addr().String()
	h, err := make(base)
	if err != nil {
		return "", errors.Join(err, ln.Close())
	}
	srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
	d.servers = append(d.servers, srv)
	go func() { _ = srv.Serve(ln) }() // ends with ErrServerClosed when stopped
	return base, nil
}

func (d *running) stop() {
	for _, srv := range d.servers {
		_ = srv.Close() // nothing to lose in a stand-in
	}
}

// fill starts the stand-ins and adds what is not there yet.
func (d *running) fill(ctx context.Context, sc *scenario) error {
	g := d.service.gate
	d.ready.Base, d.ready.Console = g.Base(), g.Base()+"/console/"
	d.ready.Owner.Username, d.ready.Owner.Password = sc.Owner.Username, sc.Owner.Password
	has, err := g.Operators.HasOwner(ctx)
	if err != nil {
		return err
	}
	if !has {
		if err := g.Operators.AddOwner(ctx, change.By{Who: "demo"}, sc.Owner.Username, sc.Owner.Password); err != nil {
			return err
		}
	}
	// The token's secret cannot be read back, so each run of the demo has its
	// own, also one that begins in the second in which another was killed.
	name := "demo-" + time.Now().UTC().Format("20060102-150405") + "-" + random.ID()[:6]
	if _, d.ready.Token, err = g.Operators.AddToken(ctx, change.By{Who: sc.Owner.Username}, name,
		time.Time{}); err != nil {
		return err
	}
	for _, fill := range []func(context.Context, *scenario) error{d.providers, d.applications, d.federations, d.people,
		d.pilots, d.rules, d.mailbox, d.payroll} {
		if err := fill(ctx, sc); err != nil {
			return err
		}
	}
	return nil
}

// say tells where to go and whom to sign in as.
func (d *running) say(sc *scenario) {
	fmt.Printf("Inner Gate is up with the demo of Wrenmoor Rail.\n\n")
	fmt.Printf("  console            %s\n                     as %s, password %s\n", d.ready.Console, sc.Owner.Username,
		sc.Owner.Password)
	for _, a := range d.ready.Applications {
		if a.Start != "" {
			fmt.Printf("  %-18s %s\n", a.Name, a.Start)
		}
	}
	fmt.Printf("  at the gate        %s/open/%s\n", d.ready.Base, d.ready.Applications[0].Name)
	for _, p := range d.ready.Providers {
		fmt.Printf("  %-18s %s, password %s (%d more on %s)\n", "as of "+p.Name, p.People[0].Username,
			p.People[0].Password, len(p.People)-1, p.Home)
	}
	fmt.Printf("  %-18s %s, where the gate's mail ends\n", "mailbox", d.ready.Mailbox)
	fmt.Printf("  %-18s %s, which is told what is done to people\n", "payroll", d.ready.Recipient)
	fmt.Println()
	fmt.Printf("For the command line:\n  export INNERGATE_URL=%s INNERGATE_TOKEN=%s\n\nCtrl-C stops the demo.\n",
		d.ready.Base, d.ready.Token)
}
