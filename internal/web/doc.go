// Package web is the HTTP interface: the protocol endpoints, the pages a person
// sees, the API with its OpenAPI document, and the console's files.
package web
