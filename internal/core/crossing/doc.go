// Package crossing is one sign-in passing through the gate, as a state machine.
//
// [Advance] takes the configuration, the state of a crossing, an event, the facts
// looked up so far and the time, and gives the new state, the effects to be
// stored, and what comes next: a message that leaves ([Leave]), an address of our
// own ([Go]), a page ([Show]), a challenge ([Challenge]) or what is lacking ([Lacks]). It reads no
// database, clock, network or randomness, so equal inputs give equal results.
//
//	begin ─→ select ─→ suffice? ─→ ask ─→ (the provider's steps) ─→ prove
//	            ↑          │         ↑                                │
//	            └─ choose  │         └── step-up ──┐                  ↓
//	                       └───────────────────→ intake ─→ match ─→ admit ─→ release ─→ end
//	                                                         ↑                            │
//	                                                         └──────── lost a race ───────┘
//
// Whatever refuses goes to the application in its protocol's words, or to the
// person on a page; see [Refusal].
//
// A [Need] is satisfied by whoever drives: it adds the facts, and calls Advance
// again with the state it got and the event [Learned]. Each kind of need is a type,
// which says what its fact is; others may be added where they are used. A need that reaches
// outside is satisfied only after the effects so far are stored, and with the
// newest configuration. Protocols take part by [ProviderSide] and
// [ApplicationSide]; their parts of the state are opaque here. Octets are made
// by [Plan.Render], which simulation never calls.
package crossing
