package app

import (
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/linkside"
	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/crossing/rpside"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/recipients"
	"innergate.example/innergate/internal/web"
	"innergate.example/innergate/internal/web/oidcweb"
	"innergate.example/innergate/internal/web/samlweb"
	"slices"
	"strings"
)

// The protocols are plugged in here and nowhere else: the core part of each, its
// addresses, and, in standins.go, its simulated counterparts.

// Protocols are the core parts. The first is what a record speaks if nothing is
// said.
func Protocols() []crossing.Protocol {
	return []crossing.Protocol{samlside.Protocol{}, oidcside.Protocol{}, rpside.Protocol{}, linkside.Protocol{}}
}

// Portal makes the record of the gate's own portal.
func Portal(base string) *federation.Application { return linkside.Portal(base) }

// eventToken makes what recipients of events are posted.
func eventToken(g *federation.Gate, n recipients.News) (string, error) {
	return oidcside.EventToken(g, oidcside.News(n))
}

// Endpoints are the addresses of those that have some.
func Endpoints() []web.Endpoints { return []web.Endpoints{samlweb.Endpoints{}, oidcweb.Endpoints{}} }

// sides are the empty sides of a kind of records, in the order of the protocols; "" is every protocol.
func sides(kind federation.Kind, protocol string) (out []federation.Side) {
	for _, p := range Protocols() {
		switch {
		case protocol != "" && p.Name() != protocol:
		case kind == federation.KindProvider && p.Providers():
			out = append(out, p.NewProvider(&federation.Gate{}, ""))
		case kind == federation.KindApplication && p.Applications():
			out = append(out, p.NewApplication(&federation.Gate{}, ""))
		}
	}
	return out
}

// all describes what several sides have, each name once.
func all(sides []federation.Side, of func(federation.Side) []federation.Setting) (out []federation.Setting) {
	for _, side := range sides {
		for _, s := range of(side) {
			if federation.Field(out, s.Name).Type == "" {
				out = append(out, s)
			}
		}
	}
	return out
}

// Speaks reports whether there is such a protocol.
func Speaks(protocol string) bool {
	return slices.ContainsFunc(Protocols(), func(p crossing.Protocol) bool { return p.Name() == protocol })
}

// Fields describes the values by which records of a kind can be typed, in a protocol; "" is every one.
func Fields(kind, protocol string) []federation.Setting {
	return all(sides(federation.Kind(kind), protocol), federation.Side.Fields)
}

// Settings describes the settings of a kind, of records in a protocol; "" is every one.
func Settings(kind, protocol string) []federation.Setting {
	k := federation.Kind(kind)
	if k != federation.KindProvider && k != federation.KindApplication {
		return federation.SettingList(k, nil)
	}
	return all(sides(k, protocol), func(s federation.Side) []federation.Setting { return federation.SettingList(k, s) })
}

// IdentityWord is what a protocol calls the identity of a provider or an application.
func IdentityWord(kind, protocol string) string {
	for _, side := range sides(federation.Kind(kind), protocol) {
		if f := federation.Field(side.Fields(), federation.IdentityField(side)); f.Label != "" {
			return strings.ToLower(f.Label[:1]) + f.Label[1:]
		}
	}
	return "identity"
}
