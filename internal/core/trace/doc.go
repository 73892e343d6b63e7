// Package trace is what is recorded of a crossing: everything that a turn was decided on, and nothing that could be
// used again; covered as the settings of its records say; read aloud; and run again under another configuration.
package trace
