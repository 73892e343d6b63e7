package api

import "net/http"

// Operation is one call of the API, declared once: the service answers it, the client makes it, and
// the OpenAPI document describes it. What is sent goes where the fields of In say by their tags: path
// and query into the address, the field Body as the body. Out is what is answered.
type Operation[In, Out any] struct{ Call }

// Call is how an operation is called.
type Call struct {
	Method, Path, ID, Summary string
	// Status is that of a success.
	Status int
	// Looks says that a call with a body changes nothing.
	Looks bool
	// Public says that it needs nobody who is signed in.
	Public bool
	// Large says that the body may be as large as any document.
	Large bool
}

// None is where nothing is sent, or answered.
type None struct{}

func operation[In, Out any](method, path, id, summary string, status int) Operation[In, Out] {
	return Operation[In, Out]{Call{Method: method, Path: path, ID: id, Summary: summary, Status: status}}
}

// gets describes a call that reads.
func gets[In, Out any](path, id, summary string) Operation[In, Out] {
	return operation[In, Out](http.MethodGet, path, id, summary, http.StatusOK)
}

// adds describes a call that makes something.
func adds[In, Out any](path, id, summary string) Operation[In, Out] {
	return operation[In, Out](http.MethodPost, path, id, summary, http.StatusCreated)
}

// does describes a call on something that is there.
func does[In, Out any](path, id, summary string) Operation[In, Out] {
	return operation[In, Out](http.MethodPost, path, id, summary, http.StatusOK)
}

// looks describes a call that takes a body and changes nothing.
func looks[In, Out any](path, id, summary string) Operation[In, Out] {
	o := does[In, Out](path, id, summary)
	o.Looks = true
	return o
}

// starts describes a call that begins a job.
func starts[In any](path, id, summary string) Operation[In, Job] {
	return operation[In, Job](http.MethodPost, path, id, summary, http.StatusAccepted)
}

// puts describes a call that replaces something, or makes it.
func puts[In, Out any](path, id, summary string) Operation[In, Out] {
	return operation[In, Out](http.MethodPut, path, id, summary, http.StatusOK)
}

// patches describes a call that changes a part of something.
func patches[In, Out any](path, id, summary string) Operation[In, Out] {
	return operation[In, Out](http.MethodPatch, path, id, summary, http.StatusOK)
}

// removes describes a call that removes something.
func removes[In any](path, id, summary string) Operation[In, None] {
	return operation[In, None](http.MethodDelete, path, id, summary, http.StatusNoContent)
}

// public has an operation need nobody who is signed in.
func public[In, Out any](method, path, id, summary string) Operation[In, Out] {
	o := operation[In, Out](method, path, id, summary, http.StatusOK)
	o.Public = true
	return o
}

// Sent is a call that sends a body alone.
type Sent[T any] struct{ Body T }

// Named says which one by its short name.
type Named struct {
	Name string `path:"name" maxLength:"200" doc:"Short name"`
}

// SentTo is a body that is sent to a named one.
type SentTo[T any] struct {
	Named
	Body T
}

// Numbered says which one by its number.
type Numbered struct {
	ID int64 `path:"id" doc:"Number"`
}

// OnePerson says who by the number of their account.
type OnePerson struct {
	Number int64 `path:"number" minimum:"1" doc:"Number of the account"`
}

// SentToPerson is a body that is sent to somebody's account.
type SentToPerson[T any] struct {
	OnePerson
	Body T
}

// OneObject says which object by its kind and name.
type OneObject struct {
	Kind string `path:"kind" maxLength:"63"`
	Named
}

// SentToObject is a body that is sent to an object.
type SentToObject[T any] struct {
	OneObject
	Body T
}

// OneComparison says which comparison of which application.
type OneComparison struct {
	Name string `path:"name" maxLength:"200" doc:"Short name of the application"`
	ID   int64  `path:"id" minimum:"1"`
}

// Body sends a body.
func Body[T any](body T) Sent[T] { return Sent[T]{Body: body} }

// Name says which one.
func Name(name string) Named { return Named{Name: name} }

// Number says who.
func Number(number int64) OnePerson { return OnePerson{Number: number} }

// To sends a body to a named one.
func To[T any](name string, body T) SentTo[T] { return SentTo[T]{Named: Name(name), Body: body} }

// ToPerson sends a body to somebody's account.
func ToPerson[T any](number int64, body T) SentToPerson[T] {
	return SentToPerson[T]{OnePerson: Number(number), Body: body}
}

// Of says which object.
func Of(kind, name string) OneObject { return OneObject{Kind: kind, Named: Name(name)} }

// ToObject sends a body to an object.
func ToObject[T any](kind, name string, body T) SentToObject[T] {
	return SentToObject[T]{OneObject: Of(kind, name), Body: body}
}
