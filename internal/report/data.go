// Package report writes an estate and its answers as one page of HTML, which opens from a
// disk, asks nobody for anything, and is meant for people who do not type commands.
//
// What the page shows is collected here, in words; the page itself draws and searches. It
// holds each text once, and refers to people, groups and texts by their numbers, so that an
// estate of thousands of groups stays small.
package report

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/present"
)

// Data is what a page shows.
type Data struct {
	Name         string        `json:"name"`
	Of           string        `json:"of,omitempty"`    // the person it is made for, or ""
	Day          string        `json:"day"`             // of evaluation, YYYY-MM-DD
	Made         string        `json:"made"`            // RFC 3339
	Whole        bool          `json:"whole"`           // it holds all groups
	Brief        bool          `json:"brief,omitempty"` // it does not say from which senders alone people get mail
	Answers      []Headline    `json:"answers"`
	Texts        []string      `json:"texts"`
	People       []Person      `json:"people"`
	Groups       []*Group      `json:"groups"`
	Own          *Own          `json:"own,omitempty"` // what the person it is made for gets
	Hazards      []Hazard      `json:"hazards"`
	Expectations []Expectation `json:"expectations"`
	Probe        *Probe        `json:"probe,omitempty"`
	Runs         []Arrivals    `json:"runs,omitempty"` // when messages of earlier runs arrived, the latest last
}

// Headline is the first line of an answer, and which part of the page tells more.
type Headline struct {
	What string `json:"what"`
	Says string `json:"says"`
	Part string `json:"part"`
}

// Person is somebody: their address, name, and state of the mailbox where it is not open.
type Person [3]string

// Own is what somebody gets and may, of all groups.
type Own struct {
	Address string     `json:"a"`
	Name    string     `json:"n"`
	Gets    []OwnGroup `json:"gets"`
	Posts   []OwnPosts `json:"posts"`
}

// OwnGroup is what somebody gets of a group.
type OwnGroup struct {
	Group   string `json:"g"`
	Outcome string `json:"o"`
	Why     string `json:"y"`
	Via     string `json:"v,omitempty"`
}

// OwnPosts are groups that say the same to somebody's messages.
type OwnPosts struct {
	Verdict string   `json:"v"`
	Groups  []string `json:"g"`
}

// Group is a group and all answers about it. People, groups and texts are numbers.
type Group struct {
	Address   string     `json:"a"`
	Title     string     `json:"t,omitempty"`
	About     string     `json:"d,omitempty"`
	Also      []string   `json:"also,omitempty"`
	Kind      string     `json:"k"`
	Owners    People     `json:"o"`
	Approvers People     `json:"ap,omitempty"`
	Outside   string     `json:"out"` // verdicts of strangers
	Inside    string     `json:"ins"`
	Forged    string     `json:"forg"`
	Known     int        `json:"fk,omitempty"` // known addresses that can be forged
	Post      []Class    `json:"post"`         // people by what becomes of their messages
	Get       []Receipt  `json:"get"`          // people by what they get, and why
	NotFrom   []NotFrom  `json:"nf,omitempty"`
	Nested    []Nested   `json:"nest,omitempty"`
	Sends     []Delegate `json:"sends,omitempty"`
	Settings  []Setting  `json:"set,omitempty"` // that are not as by default
	Hazards   []int      `json:"hz,omitempty"`
}

// Class are the people that one rule of a gate decides about.
type Class struct {
	Verdict string `json:"v"`
	Rule    int    `json:"r"` // the text of the rule
	Count   int    `json:"n"`
	Who     People `json:"w,omitempty"` // where they are not too many
}

// Receipt are people who get the same of a group's mail for the same reason.
type Receipt struct {
	Outcome string   `json:"o"`
	Why     int      `json:"y"` // a text
	Via     []int    `json:"v,omitempty"`
	Count   int      `json:"n,omitempty"` // how many people
	Who     People   `json:"w,omitempty"`
	Nobody  []string `json:"x,omitempty"` // addresses that do not exist
}

// NotFrom are people who get it from some senders only.
type NotFrom struct {
	Says int    `json:"s"`
	Who  People `json:"w"`
}

// Nested is a group in a group.
type Nested struct {
	Group int    `json:"g"`
	State string `json:"s"` // open; or stopped or waiting: for somebody that the outer gate admits
	Says  int    `json:"y"` // what a hazard says of it, a text
	None  bool   `json:"none,omitempty"`
}

// Delegate is somebody who may send as a group.
type Delegate struct {
	Who   int    `json:"w"`
	As    string `json:"as"`
	Proof string `json:"p"`
	Why   int    `json:"y"`
}

// Setting is a setting of a group and what it says.
type Setting [2]string

// Hazard is what will go wrong, and what to do.
type Hazard struct {
	Name     string `json:"n"`
	Severity string `json:"s"`
	Group    int    `json:"g"` // -1: none
	Address  string `json:"a,omitempty"`
	Says     string `json:"y"` // of the first, where there are several alike
	Fix      string `json:"f"`
	Place    string `json:"p,omitempty"`
	Count    int    `json:"c"` // of this kind in the group
	// Others are the people that the others are about; Further are the other
	// addresses.
	Others  People   `json:"w,omitempty"`
	Further []string `json:"x,omitempty"`
}

// Expectation is a statement, and who breaks it.
type Expectation struct {
	Group   int      `json:"g"`
	Text    string   `json:"t"`
	Holds   bool     `json:"h"`
	Against []string `json:"x,omitempty"`
}

// Probe is the last run, beside what was predicted.
type Probe struct {
	Run     string   `json:"run"`
	Line    string   `json:"line"`
	Began   string   `json:"began"`
	Cases   []Case   `json:"cases"`
	Causes  []string `json:"causes"`
	Arrived Arrivals `json:"arrived"`
}

// Arrivals are the seconds after which messages of a run were seen.
type Arrivals struct {
	Run     string    `json:"run"`
	Began   string    `json:"began"`
	Seconds []float64 `json:"s"`
}

// Case is a message of a run.
type Case struct {
	From      string      `json:"f"`
	To        string      `json:"t"`
	Kind      string      `json:"k"`
	Predicted string      `json:"p"`
	Seen      string      `json:"s"`
	As        bool        `json:"as"`
	Members   int         `json:"m"` // that something was predicted or seen of
	Unlike    [][3]string `json:"u,omitempty"`
}

// Choice says what a page is about.
type Choice struct {
	Groups []estate.ID // nil: all
	Person estate.ID   // the person it is made for, or None
	Of     string      // their name, or that of the group that it is made for
	Places bool        // hazards have the places of files
	Day    string
	Made   string

	Expectations *present.Expectations
	Probe        *present.Probe
	ProbeBegan   string
	Runs         []Arrivals
}

// mostNotFrom is how many groups a page may have to say from which senders alone people get
// mail: that takes longer than all else.
const mostNotFrom = 500

// mostWho is how many people of a class of posters are named.
const mostWho = 100
