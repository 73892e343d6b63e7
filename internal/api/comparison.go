package api

import (
	"time"

	"innergate.example/innergate/internal/core/compare"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/table"
)

// CompareAccounts says how the accounts of an application are compared with people.
type CompareAccounts struct {
	Column     string `json:"column,omitempty" maxLength:"200" doc:"Heading of the list; absent for the one that fits best"`
	Identifier string `json:"identifier,omitempty" maxLength:"300" doc:"What identifies people, as an earlier comparison lists it; absent for the one that fits best"`
	Group      string `json:"group,omitempty" maxLength:"63" doc:"Only people in this group; absent for all who may come"`
}

// Comparison is what a comparison of accounts came to.
type Comparison struct {
	ID         int64                   `json:"id"`
	At         time.Time               `json:"at"`
	Who        string                  `json:"who"`
	Group      string                  `json:"group,omitempty"`
	Column     string                  `json:"column"`
	Identifier string                  `json:"identifier"`
	Accounts   int                     `json:"accounts"`
	People     int                     `json:"people"`
	Counts     map[compare.Verdict]int `json:"counts" doc:"Lines by verdict"`
	NotTold    bool                    `json:"notTold,omitempty" doc:"The application is not told yet what people are identified by here: nobody is found by it before it is"`
	Rule       *profile.Rule           `json:"rule,omitempty" doc:"With notTold: the rule of the release that would tell it"`
	Changes    []compare.Improvement   `json:"changes" doc:"Changes of what is told that would have more accounts fit, the best first"`
	Rates      []compare.Rate          `json:"rates" doc:"How well each heading fits each identifier, the best first"`
	Bad        []table.BadRow          `json:"bad" doc:"The first rows of the list that could not be read"`
	BadRows    int                     `json:"badRows"`
	Separator  string                  `json:"separator"`
	Encoding   string                  `json:"encoding"`
	Before     *ComparisonSince        `json:"before,omitempty" doc:"What differs from the one before, by the same heading and identifier"`
}

// ComparisonSince is what differs from an earlier comparison.
type ComparisonSince struct {
	ID     int64                   `json:"id"`
	Counts map[compare.Verdict]int `json:"counts"`
	Fit    []string                `json:"fit" doc:"Accounts that fit now and did not; the first ones"`
	Unfit  []string                `json:"unfit" doc:"Accounts that do not fit now and did"`
	FitN   int                     `json:"fitCount"`
	UnfitN int                     `json:"unfitCount"`
	Came   int                     `json:"came" doc:"Accounts that were not in the list then"`
	Went   int                     `json:"went"`
}

// ComparisonShown is a comparison with a page of its lines.
type ComparisonShown struct {
	Comparison
	Lines []compare.Line `json:"lines"`
	Total int            `json:"total" doc:"Lines of the verdict that was asked for"`
}

// Fits are how many accounts fitted when they were last compared.
type Fits struct {
	At  time.Time `json:"at"`
	Fit int       `json:"fit"`
	Of  int       `json:"of"`
}
