package redeeming

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/trace"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/store"
)

// names are the standard ones of requests.
var names = map[oidcside.What]string{oidcside.AskToken: "Token request", oidcside.AskUserInfo: "UserInfo request",
	oidcside.AskIntrospect: "Introspection request", oidcside.AskRevoke: "Revocation request",
	oidcside.AskPush: "Pushed authorization request"}

// record tells what was asked and what came of it in the trace of the sign-in that
// it is about. A refusal that is about none gets a trace of its own, as far as
// strangers may fill the disk.
func (rm *Room) record(a *asked, err error, given bool) {
	refusal := oidc.RefusalOf(err)
	word := ""
	if refusal != nil {
		word = string(refusal.Code)
	} else if err != nil {
		word = "server_error"
		rm.log.Error("a request of an application failed by our own fault", "call", a.What, "error", err)
	}
	if a.Run != nil {
		rm.served(a, refusal)
		return
	}
	rm.results.WithLabelValues(string(a.What), word).Inc()
	if err == nil && given && a.Client.Kind == oidc.Service {
		rm.recordService(a)
		return
	}
	if err != nil && refusal == nil || refusal == nil && a.Given == nil {
		return
	}
	if refusal == nil && (!given && a.What != oidcside.AskRevoke || a.often) {
		return // what is only looked at, or comes again and again, is not told each time
	}
	steps := rm.steps(a, refusal, given)
	if a.Given != nil && a.Given.Trace != "" {
		if refusal != nil {
			refusal.Reference = a.Given.Trace
		}
		result, code := resulting(a, refusal)
		if a.Given.Run != "" && result != "" {
			rm.redeemed(a.Given.Run, refusal)
		} else if a.Given.Run != "" && refusal != nil {
			rm.rehearsals.Also(context.Background(), a.Given.Run, refusal.Finding, a.Given.Trace)
		}
		rm.happenings.Append(a.Given.Trace, steps, result, code)
		return
	}
	if refusal == nil || !rm.strangers.Take(a.Caller.Network, a.Now) {
		return
	}
	head := store.TraceHead{ID: random.Reference(), Started: a.Now.UTC(), StartedBy: "application",
		Result:  crossing.Refused,
		Finding: string(refusal.Finding.Code), Verified: a.Proved != (oidc.Proved{}) && a.Method != oidc.NoMethod}
	if a.App != nil {
		head.Application = string(a.App.Name)
	}
	refusal.Reference = head.ID
	rm.log.Info("refused", "reference", head.ID, "finding", head.Finding, "application", head.Application, "call", a.What)
	rm.happenings.Record(head, steps, nil)
	rm.rehearsals.Meanwhile(context.Background(), federation.Name(head.Application), refusal.Finding, head.ID)
}

// served records the token request of a service in a run of a rehearsal: it counts in no figure.
func (rm *Room) served(a *asked, refusal *oidc.Refusal) {
	head := store.TraceHead{ID: random.Reference(), Started: a.Now.UTC(), StartedBy: "application", Run: a.Run.Run,
		Application: string(a.App.Name), Result: crossing.Entered, Verified: true}
	var f *finding.Finding
	if refusal != nil {
		f = refusal.Finding
		head.Result, head.Finding, refusal.Reference = crossing.Refused, string(f.Code), head.ID
	}
	rm.happenings.Record(head, rm.steps(a, refusal, refusal == nil), nil)
	rm.rehearsals.Served(context.Background(), a.Run.Run, string(a.Client.ID), a.tokens.Scope, f, head.ID)
}

// redeemed tells the run of a rehearsal that the application came for what it was given.
func (rm *Room) redeemed(run string, refusal *oidc.Refusal) {
	var f *finding.Finding
	if refusal != nil {
		f = refusal.Finding
	}
	rm.rehearsals.Redeemed(context.Background(), run, f)
}

// resulting is what a sign-in came to by a call on the back channel: a code that is not redeemed,
// a token that is used twice or a scope that grows are its result; so is a code that is redeemed
// after all, once the client had it right. "" leaves it as it was.
func resulting(a *asked, refusal *oidc.Refusal) (result, code string) {
	by := a.Form.Get("grant_type")
	switch {
	case a.What != oidcside.AskToken || a.App == nil || a.App.ID != a.Given.Client:
		return "", ""
	case refusal == nil && by == "authorization_code":
		return crossing.Entered, ""
	case refusal == nil:
		return "", ""
	case by == "authorization_code", refusal.Finding.Code == finding.GrantTwice,
		refusal.Finding.Code == finding.ScopeGrown:
		return crossing.Refused, string(refusal.Finding.Code)
	}
	return "", ""
}

// serviceAgain is how often a token of a service is recorded: often enough to see
// that it works, and not so often that it pushes sign-ins out.
const serviceAgain = 10 * time.Minute

// recordService records that a service got a token, now and then.
func (rm *Room) recordService(a *asked) {
	if last, ok := rm.told.Load(a.App.ID); ok && a.Now.Sub(last.(time.Time)) < serviceAgain {
		return
	}
	rm.told.Store(a.App.ID, a.Now)
	rm.happenings.Record(store.TraceHead{ID: random.Reference(), Started: a.Now.UTC(), StartedBy: "application",
		Application: string(a.App.Name), Result: crossing.Entered, Verified: true}, rm.steps(a, nil, true), nil)
}

// steps are those of a request and its answer, on the back channel.
func (rm *Room) steps(a *asked, refusal *oidc.Refusal, given bool) []any {
	in := crossing.TraceStep{At: a.Now.UTC(), From: crossing.Application, To: crossing.GateLane, Name: names[a.What],
		Binding: "back channel", Checks: a.Checks, Octets: shown(a)}
	out := crossing.TraceStep{At: rm.now().UTC(), From: crossing.GateLane, To: crossing.Application,
		Name: strings.Replace(names[a.What], "request", "response", 1), Binding: "back channel"}
	if a.App != nil {
		client := a.App.Side.(*oidcside.Application).ClientID
		in.Values = append(in.Values, federation.Value{Label: "Client ID", Value: string(client)},
			federation.Value{Label: "Client authentication", Value: string(a.Method)})
	}
	switch {
	case refusal != nil:
		in.Finding = refusal.Finding.From(sideOf(refusal.Finding))
		out.Values = []federation.Value{{Label: "error", Value: string(refusal.Code)}}
	case given:
		out.Values = append(out.Values, federation.Value{Label: "Scope", Value: a.tokens.Scope},
			federation.Value{Label: "Access token", Value: fmt.Sprintf("good for %d s", a.tokens.ExpiresIn)})
		if a.Form.Get("grant_type") != "refresh_token" { // what is refreshed says the same again
			out.Octets = decoded(&a.tokens)
		}
	}
	veil := rm.veil(a)
	return []any{veil.Step(in), veil.Step(out)}
}

// veil takes out what the trace is not to keep.
func (rm *Room) veil(a *asked) *trace.Veil {
	app, provider := "", ""
	if a.App != nil {
		app = string(a.App.Name)
	}
	if a.Given == nil {
		return trace.NewVeil(rm.records.Snapshot(), app, provider)
	}
	veil := trace.NewVeil(rm.records.Snapshot(), app, string(a.Given.Word.Provider))
	veil.Named(a.Given.Word.Subject.Value, a.Given.Subject)
	return veil
}

// sideOf is the side that sent what was refused, where the finding leaves it open.
func sideOf(f *finding.Finding) finding.Side {
	if f.Side == finding.Sender {
		return finding.Application
	}
	return f.Side
}

// shown is a request as the trace has it: parameters, and of secrets only that they
// were there.
func shown(a *asked) string {
	var lines []string
	for name, values := range a.Form {
		for _, v := range values {
			if crossing.Hides(name) || name == "code" {
				v = "(not recorded)"
			}
			lines = append(lines, finding.Clip(name)+"="+finding.Clip(v))
		}
	}
	if len(lines) > 40 {
		lines = lines[:40]
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// decoded is what was given, each token taken apart and without its signature.
func decoded(t *oidcside.Tokens) string {
	out := map[string]any{"token_type": t.TokenType, "expires_in": t.ExpiresIn, "scope": t.Scope}
	for name, token := range map[string]string{"access_token": t.AccessToken, "id_token": t.IDToken} {
		parts := strings.Split(token, ".")
		if token == "" {
			continue
		}
		if out[name] = "(opaque, not recorded)"; len(parts) != 3 || !strings.HasPrefix(token, "ey") {
			continue
		}
		head, e1 := base64.RawURLEncoding.DecodeString(parts[0])
		claims, e2 := base64.RawURLEncoding.DecodeString(parts[1])
		if errors.Join(e1, e2) == nil {
			out[name] = map[string]json.RawMessage{"header": head, "claims": claims}
		}
	}
	if t.RefreshToken != "" {
		out["refresh_token"] = "(a secret, not recorded)"
	}
	octets, err := json.Marshal(out)
	if err != nil {
		return ""
	}
	return string(octets)
}
