// Package gate is the service without its HTTP interface. It owns the snapshot,
// drives crossings through the pure steps of the core, satisfies their needs
// from the store, records traces, and changes configuration.
//
// Whatever it answers to a browser is an [Outcome]; package web turns it into
// HTTP.
package gate
