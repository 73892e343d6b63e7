package api

import "innergate.example/innergate/internal/core/bundle"

// BundleAsk says what is taken along.
type BundleAsk struct {
	Kind   string `path:"kind" enum:"trace,rehearsal,connection" doc:"Of a connection the name is the application's"`
	Name   string `path:"name" maxLength:"63" doc:"Short name, or the reference number of a sign-in"`
	Run    int64  `query:"run" minimum:"0" doc:"Of a rehearsal: which run; the newest if absent"`
	Whole  bool   `query:"whole" doc:"With values of people; else they are masked, equal ones alike"`
	Digest string `query:"digest" maxLength:"64" doc:"Of the preview that was looked at; needed for the file"`
}

// BundlePreview is all that a bundle holds.
type BundlePreview struct {
	Digest string        `json:"digest" doc:"By which the file is fetched that holds just this"`
	File   string        `json:"file" doc:"What the file is called"`
	Bundle bundle.Bundle `json:"bundle"`
}
