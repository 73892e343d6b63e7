package app

import (
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/linkside"
	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/crossing/rpside"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/web"
	"innergate.example/innergate/internal/web/oidcweb"
	"innergate.example/innergate/internal/web/samlweb"
)

// The protocols are plugged in here and nowhere else: the core part of each, its
// addresses, and, in standins.go, its simulated counterparts.

// Protocols are the core parts. The first is what a record speaks if nothing is
// said.
func Protocols() []crossing.Protocol {
	return []crossing.Protocol{samlside.Protocol{}, oidcside.Protocol{}, rpside.Protocol{}, linkside.Protocol{}}
}

// Endpoints are the addresses of those that have some.
func Endpoints() []web.Endpoints { return []web.Endpoints{samlweb.Endpoints{}, oidcweb.Endpoints{}} }
