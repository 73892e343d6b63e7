package api

import (
	"net/http"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
)

// The gate itself, its keys, and who runs it.
var (
	ShowGate     = gets[None, About]("/gate", "show-gate", "What the gate says of itself")
	ListFindings = gets[None, []finding.Entry]("/findings", "list-findings", "The catalogue of findings")

	ListKeys    = gets[None, List[Key]]("/keys", "list-keys", "The gate's own keys")
	AnnounceKey = adds[Sent[KeyChange], List[Key]]("/keys", "announce-key",
		"Make the next key for a purpose and announce it in metadata")
	SwitchKey = adds[Sent[KeyChange], List[Key]]("/keys/switch", "switch-key", "Make the announced key the current one")
	RemoveKey = removes[Numbered]("/keys/{id}", "remove-key", "Remove a key that is not the current one")

	ShowContexts = gets[None, Contexts]("/contexts", "show-contexts",
		"How authentication contexts rank, the weakest first")
	ChangeContexts = puts[Sent[Contexts], Contexts]("/contexts", "change-contexts",
		"Replace the ranking of authentication contexts")

	ListOwners  = gets[None, List[Owner]]("/owners", "list-owners", "Owners: who may sign in to the console")
	AddOwner    = adds[Sent[NewOwner], Owner]("/owners", "add-owner", "Add an owner")
	SetPassword = puts[SentTo[NewPassword], None]("/owners/{name}/password", "set-password",
		"Give an owner a new password; their console sessions end").answersNothing()
	RemoveOwner = removes[Named]("/owners/{name}", "remove-owner", "Remove an owner; the last one stays")
	ListTokens  = gets[None, List[Token]]("/tokens", "list-tokens", "API tokens")
	AddToken    = adds[Sent[NewToken], Token]("/tokens", "add-token", "Make an API token; its secret is given once")
	RemoveToken = removes[Named]("/tokens/{name}", "remove-token", "Remove an API token")

	ShowMe  = public[None, Me](http.MethodGet, "/me", "show-me", "Who is signed in to the console")
	SignIn  = public[Sent[Credentials], Me](http.MethodPost, "/me", "sign-in", "Sign in to the console")
	SignOut = public[None, Me](http.MethodDelete, "/me", "sign-out", "Sign out of the console")
	SetUp   = public[Sent[Credentials], Me](http.MethodPost, "/setup", "set-up",
		"Set up the first owner with the one-time link")
)

// Objects of any kind, changes of several, and what was changed.
var (
	ListKinds = gets[None, []Kind]("/kinds", "list-kinds",
		"The settings of every kind of objects: their names, labels, types and values; those of records by protocol")
	ShowSchema = gets[SchemaOf, map[string]any]("/kinds/{kind}/schema", "show-schema",
		"A JSON Schema of the settings of a kind, for checking files and for editors")
	ListObjects = gets[ObjectFilter, List[ObjectRow]]("/objects/{kind}", "list-objects", "Objects of a kind, by name")
	ShowObject  = gets[OneObject, Object]("/objects/{kind}/{name}", "show-object",
		"One object of any kind, and what names it")
	PreviewObject = looks[SentToObject[ObjectChange], ObjectLooked]("/objects/{kind}/{name}/preview", "preview-object",
		"What laying settings over an object would come to")
	PutObject = puts[SentToObject[ObjectChange], Object]("/objects/{kind}/{name}", "put-object",
		"Make an object of a kind that settings say everything about, or lay settings over it")
	RemoveObject = removes[OneObject]("/objects/{kind}/{name}", "remove-object", "Remove an object that nothing names")

	PreviewChanges = looks[Sent[Many], ManyPreview]("/changes/preview", "preview-changes",
		"What a change of many records would come to")
	ChangeMany = does[Sent[Many], ManyPreview]("/changes", "change-many",
		"Change or remove many records at once: all of them, or none")

	ListHistory = gets[HistoryFilter, List[Change]]("/history", "list-history", "Changes, the newest first")
	ShowChange  = gets[Numbered, Revision]("/history/{id}", "show-change", "One change: before and after")
	Restore     = does[Numbered, TakenEntity]("/history/{id}/restore", "restore",
		"Set a record back to what it was after this change")
	Undo = does[Numbered, Undone]("/history/{id}/undo", "undo",
		"Take a change back: the record becomes what it was before; with it all changes that were made together")
	ListJobs = gets[None, List[Job]]("/jobs", "list-jobs", "Work in progress, and what ended within the hour")
	ShowJob  = gets[Named, Job]("/jobs/{name}", "show-job", "How far a job is, and how it ended")
)

// Connections and aggregates.
var (
	ListConnections = gets[ConnectionFilter, ConnectionList]("/connections", "list-connections",
		"Applications with the provider each is tied to, and whether they work; the worst first")
	ListChecks = gets[CheckFilter, CheckList]("/checks", "list-checks",
		"Findings that can be known without a sign-in")
	AcknowledgeFindings = does[Sent[Acknowledge], None]("/checks/acknowledge", "acknowledge",
		"Have findings count no more until a date, with a remark why")
	WithdrawAcknowledgement = does[Sent[Withdraw], None]("/checks/withdraw", "withdraw-acknowledgement",
		"Have acknowledged findings count again")
	ListWaiting = gets[WaitingFilter, List[Pending]]("/waiting", "list-waiting",
		"Changes that wait for approval, the oldest first")

	ListAggregates  = gets[None, List[Aggregate]]("/aggregates", "list-aggregates", "Aggregates by name")
	ShowAggregate   = gets[Named, Aggregate]("/aggregates/{name}", "show-aggregate", "One aggregate")
	ChangeAggregate = patches[SentTo[AggregateChange], None]("/aggregates/{name}/settings", "change-aggregate",
		"Change settings of an aggregate; those that are absent stay").answersNothing()
	RemoveAggregate = removes[Named]("/aggregates/{name}", "remove-aggregate",
		"Remove an aggregate; records taken from it stay")
	AddAggregate = starts[Sent[NewAggregate]]("/aggregates", "add-aggregate",
		"Take an aggregate in from its address; a job tells how far it is")
	UploadAggregate = starts[None]("/aggregates/upload", "upload-aggregate", "Take an aggregate in from a document")
	UploadEdition   = starts[Named]("/aggregates/{name}/upload", "upload-edition",
		"Take the next edition of an aggregate in from a document")
	RefreshAggregate = starts[Named]("/aggregates/{name}/refresh", "refresh-aggregate", "Fetch an aggregate anew")
	ListEntities     = gets[EntityFilter, List[Entity]]("/aggregates/{name}/entities", "list-entities",
		"Entities of an aggregate")
	PreviewTakeOver = looks[SentTo[TakeOver], TakePreview]("/aggregates/{name}/take/preview", "preview-take-over",
		"How many records taking entities over would make, and in which phase")
	TakeEntities = starts[SentTo[TakeOver]]("/aggregates/{name}/take", "take-over",
		"Make records of entities; a job tells how far it is, and what was refused")
)

// Mappings, what they would do, and what was seen.
var (
	ListSets = gets[None, List[Set]]("/sets", "list-sets", "Named mappings that records share")
	ShowSet  = gets[Named, Set]("/sets/{name}", "show-set", "One set, and who shares it")
	PutSet   = puts[SentTo[SetChange], Set]("/sets/{name}", "put-set",
		"Make a set, or change it: everybody who shares it follows")
	RemoveSet  = removes[Named]("/sets/{name}", "remove-set", "Remove a set that nobody shares")
	Reevaluate = does[Sent[Reevaluation], Job]("/reevaluations", "reevaluate",
		"Run recorded crossings through a change before it is saved; nothing is changed")
	WeighChange = looks[Sent[Proposed], Consequence]("/consequences/preview", "weigh-change",
		"What a change would do to the people who signed in lately, within seconds; nothing is changed")
	TryMapping = adds[Sent[MappingTrial], Mapped]("/mapping-trials", "try-mapping",
		"Run a recorded sign-in, or given values, through mappings; nothing is changed")
	ListRules = gets[RuleFilter, List[AccessRule]]("/rules", "list-rules",
		"Access rules, read aloud, in the order in which they are looked at")
	Simulate = looks[SentTo[Simulation], Simulated]("/applications/{name}/simulations", "simulate",
		"Whether somebody would enter an application, and by which rules; nothing is changed")
	SimulateList = starts[Named]("/applications/{name}/simulations/list", "simulate-list",
		"Whether the people of a list, CSV or JSON, would enter an application; a job tells how far it is")
	ListAdmissions = gets[AdmissionFilter, Admissions]("/applications/{name}/admissions", "list-admissions",
		"Who enters an application by name: groups, and a page of the people")
	Admit = does[SentTo[AdmissionChange], Admissions]("/applications/{name}/admissions", "admit",
		"Admit people or groups to an application by name, or everyone")
	Unadmit = does[SentTo[AdmissionChange], Admissions]("/applications/{name}/admissions/withdraw", "unadmit",
		"Take entry away that was given by name; where somebody loses it, confirm says that this was looked at")
	AdmitList = starts[Named]("/applications/{name}/admissions/list", "admit-list",
		"Admit the people of a list, CSV or JSON, after a preview; a job tells how far it is")
	ListEntrants = gets[EntrantPage, Entrants]("/applications/{name}/entrants", "list-entrants",
		"Everyone who is known, whether they enter the application as they last came, and by what")
	ForeseeEntrants = starts[Named]("/applications/{name}/entrants", "foresee-entrants",
		"Decide on the entry of everyone who is known; a job tells how far it is, and the counts")
	ExportEntrants = gets[EntrantFilter, []byte]("/applications/{name}/entrants/export", "export-entrants",
		"The list of everyone as CSV")
	ShowRollout = gets[OneObject, Rollout]("/rollouts/{kind}/{name}", "show-rollout",
		"How far a provider or an application is used, and how its pilot goes")
	ListRequests = gets[RequestFilter, EntryRequests]("/entry-requests", "list-entry-requests",
		"Admissions that were asked for, the newest first")
	ShowRequest    = gets[Numbered, EntryRequest]("/entry-requests/{id}", "show-entry-request", "One of them")
	ApproveRequest = does[Approves, EntryRequest]("/entry-requests/{id}/approve", "approve-entry-request",
		"Approve it as it was looked at: it acts at once")
	DeclineRequest = does[Numbered, EntryRequest]("/entry-requests/{id}/decline", "decline-entry-request",
		"Decline it; the remark says why")
	ListRoles = gets[RuleFilter, List[Role]]("/roles", "list-roles",
		"Roles of applications, read aloud, in their order")
	ListStarts = gets[RuleFilter, List[Start]]("/starts", "list-starts", "Starting points of applications, by name")
	ShowPortal = gets[OnePerson, Portal]("/people/{number}/portal", "show-portal",
		"What somebody finds on the portal, decided as if they came now")
	ShowSelection = gets[RuleFilter, Selection]("/selection", "show-selection",
		"Provider selection: its rules, read aloud, and whose each domain of addresses is")
	FindWay = looks[SentTo[WayAsked], WayFound]("/applications/{name}/way", "find-way",
		"By which providers somebody would come to an application; nothing is changed")
	ShowBrowser = gets[None, Browser]("/browser", "show-browser",
		"The address that the gate sees for whoever calls: what rules on networks are held against")
	ListTraces    = gets[TraceFilter, TraceList]("/traces", "list-traces", "Traces, newest first")
	ShowTrace     = gets[Named, Trace]("/traces/{name}", "show-trace", "One trace, step by step")
	CompareTraces = gets[TraceBeside, TraceComparison]("/traces/{name}/compared", "compare-traces",
		"Two traces step by step: what differs, and what is bound to")
)

// People, and what applications keep of them.
var (
	ListPeople = gets[PeoplePage, People]("/people", "list-people",
		"People by their numbers, or those that are searched for")
	AddPerson    = adds[Sent[NewPerson], PersonShown]("/people", "add-person", "Make somebody known before they come")
	ShowPerson   = gets[OnePerson, PersonShown]("/people/{number}", "show-person", "One person, with what they hold")
	ChangePerson = patches[SentToPerson[PersonChange], PersonShown]("/people/{number}", "change-person",
		"Change what is kept of somebody, and where they belong")
	ToldPerson = gets[Telling, Mapped]("/people/{number}/told", "told-person",
		"What an application would be told of somebody at their next sign-in")
	PersonMayEnter = gets[OnePerson, PersonEntries]("/people/{number}/entries", "list-entries",
		"Which applications somebody enters, and by what")
	DisablePerson = does[OnePerson, PersonShown]("/people/{number}/disable", "disable-person",
		"Let somebody in no more: their sessions end at once, and what these gave")
	EnablePerson = does[OnePerson, PersonShown]("/people/{number}/enable", "enable-person", "Let somebody in again")
	RemovePerson = removes[OnePerson]("/people/{number}", "remove-person",
		"Remove somebody with all that is theirs; that it was done stays in the history")
	LinkPerson = does[SentToPerson[PersonLink], PersonShown]("/people/{number}/links", "link-person",
		"Link somebody to a further name of a provider for them")
	PartPerson = does[SentToPerson[PersonPart], PersonShown]("/people/{number}/part", "part-person",
		"Take a link away from somebody, and make an account of its own for it, which is the answer")
	JoinPeople = does[SentToPerson[PersonJoin], PersonJoined]("/people/{number}/join", "join-people",
		"Make one account of two, after a preview")
	ImportPeople = starts[None]("/people/import", "import-people",
		"Take a list of people in, CSV or JSON, after a preview; a job tells how far it is")
	ChangePeople = does[Sent[PeopleChange], PeopleChanged]("/people/changes", "change-people",
		"Do one thing to several people, after a preview")
	ListEvents = gets[EventFilter, PersonEvents]("/people/events", "list-person-events",
		"What was done to people, and by whom, the oldest first; gone after a time")
	ListRecipients = gets[None, List[Recipient]]("/recipients", "list-recipients",
		"Who is told what is done to people, and how far they have heard")
	ListRehearsals = gets[RehearsalFilter, List[Rehearsal]]("/rehearsals", "list-rehearsals",
		"Saved sign-in tests, with what their newest runs came to")
	ProposeRehearsal = gets[RehearsalProposal, ProposedRehearsal]("/rehearsals/proposal", "propose-rehearsal",
		"A rehearsal as the connection stands for somebody, or as a recorded sign-in went; nothing is stored")
	BeginRun = adds[Named, Run]("/rehearsals/{name}/runs", "begin-run",
		"Start a run of a rehearsal; the answer holds, once, the link to be opened in the browser of whoever rehearses")
	DriveRun = adds[Named, Run]("/rehearsals/{name}/unattended-runs", "begin-unattended-run",
		"Start a run of a rehearsal that the gate goes through by itself, with the test account")
	GivePassword = puts[TestPassword, TestAccount]("/rehearsals/{name}/password", "give-test-password",
		"Give the password of a rehearsal's test account; it is kept sealed, and goes to forms at the provider's hosts alone")
	ForgetPassword = removes[Named]("/rehearsals/{name}/password", "forget-test-password",
		"Forget the password of a rehearsal's test account; every rehearsal with that account runs by its link then")
	ResumeAccount = does[Named, TestAccount]("/rehearsals/{name}/resume", "resume-test-account",
		"Have a test account tried again that the provider did not take, with the password that is on record")
	PreviewBundle = gets[BundleAsk, BundlePreview]("/bundles/{kind}/{name}", "preview-bundle",
		"All that a bundle of a sign-in, a rehearsal or a connection would hold")
	FetchBundle = gets[BundleAsk, []byte]("/bundles/{kind}/{name}/file", "fetch-bundle",
		"A bundle as a file (zip: JSON, a page that opens offline, the messages); it holds what the preview of the digest showed")
	ListTour = gets[None, List[TourStop]]("/tour", "list-tour",
		"The tour of the demo: classic mistakes, in order; empty at a gate that is no demo")
	BreakStop = does[Named, Run]("/tour/{name}/break", "break-tour-stop",
		"Make the mistake of a stop on the stand-ins, and have its rehearsal run; in the demo alone")
	MendStop = does[Named, Run]("/tour/{name}/mend", "mend-tour-stop",
		"Mend the mistake of a stop, and have its rehearsal run again; in the demo alone")
	PastRuns = gets[PastFilter, List[PastRun]]("/rehearsals/past", "list-past-runs",
		"Runs that ended, of one rehearsal or all, the newest first; 2,000 at most")
	ListRuns = gets[RunFilter, List[Run]]("/rehearsals/{name}/runs", "list-runs", "Runs of a rehearsal, the newest first")
	ShowRun  = gets[Numbered, Run]("/runs/{id}", "show-run", "One run, with its steps so far and its verdict")
	EndRun   = does[Numbered, Run]("/runs/{id}/end", "end-run", "End a run now, with everything that it gave")
	SayOfRun = does[SaidOfRun, Run]("/runs/{id}/said", "say-of-run", "Say what the application did with the answer")
	WatchRun = gets[Numbered, Stream[Run]]("/runs/{id}/watch", "watch-run",
		"A run while it goes on, as server-sent events: each holds all of it, as show-run does")
	ListMade = gets[None, List[MadePerson]]("/rehearsals/made", "list-made",
		"People of whom rehearsals made accounts, and who have not come for real since")
	WatchTraces = gets[None, Stream[TraceNews]]("/traces/watch", "watch-traces",
		"Sign-ins while they happen, as server-sent events")

	ExportPeople = gets[PeopleExport, []byte]("/people/export", "export-people",
		"People as a list that can be taken in again")

	ListLinks         = gets[LinkFilter, List[Link]]("/links", "list-links", "People's links to providers")
	ListLinkProviders = gets[None, List[LinkCount]]("/links/providers", "list-link-providers",
		"Providers that people are linked to, on record or removed")
	CarryLinks = does[Sent[Carry], Carried]("/links/carry", "carry-links",
		"Let the people of one provider in by another, after a preview")

	ListSubjects = gets[SubjectFilter, List[KnownSubject]]("/applications/{name}/subjects", "list-subjects",
		"Lasting names by which the application knows people")
	ImportSubjects = does[SentTo[Import], Imported]("/applications/{name}/subjects", "import-subjects",
		"Keep the values by which the application knows people, after a preview").large()

	ComparePeople = starts[Named]("/applications/{name}/comparisons", "compare-accounts",
		"Compare the accounts that the application keeps, CSV with any headings, with people; a job tells how far it is")
	ListComparisons = gets[Named, List[Comparison]]("/applications/{name}/comparisons", "list-comparisons",
		"Comparisons that are kept, the newest first")
	ShowComparison = gets[ComparisonPage, ComparisonShown]("/applications/{name}/comparisons/{id}", "show-comparison",
		"One comparison, with a page of its lines")
	ExportComparison = gets[ComparisonExport, []byte]("/applications/{name}/comparisons/{id}/export", "export-comparison",
		"The lines of a comparison as CSV")
	RemoveComparison = removes[OneComparison]("/applications/{name}/comparisons/{id}", "remove-comparison",
		"Remove a comparison that is kept")

	RotateSecret = does[SentTo[Rotation], Rotated]("/applications/{name}/secret", "rotate-secret",
		"Make the next client secret; those of before stay good for an overlap")
	ListGrants = gets[GrantFilter, List[Grant]]("/applications/{name}/grants", "list-grants",
		"What sign-ins gave an application: codes, refresh tokens and their ends")
	ListConsents = gets[GrantFilter, List[Consent]]("/applications/{name}/consents", "list-consents",
		"What people agreed to that an application may be told")
	WithdrawConsent = operation[OneConsent, Withdrawn](http.MethodDelete, "/applications/{name}/consents/{person}",
		"withdraw-consent",
		"Take back what somebody agreed to, and end what their sign-ins gave the application", http.StatusOK)
	ListNotices = gets[NoticeFilter, List[Notice]]("/notices", "list-notices",
		"What applications are to be told behind the browser and did not answer yet, such as that somebody has signed out")
)

// RecordCalls are the calls for records of a kind: what adding one takes, what a change takes, and what
// is shown of one.
type RecordCalls[New, Edit, Shown any] struct {
	List             Operation[Listing, List[Row]]
	Add              Operation[Sent[New], Shown]
	Preview          Operation[Sent[New], Preview]
	Show             Operation[Named, Shown]
	Sheet            Operation[Named, Sheet]
	Change           Operation[SentTo[Edit], Shown]
	Remove           Operation[Named, None]
	Document         Operation[Named, Text]
	Retake           Operation[SentTo[Retake], Record]
	Refresh          Operation[Refreshing, Refreshed]
	Approve, Decline Operation[SentTo[Decision], None]
	ProposeMapping   Operation[Named, MappingProposal]
}

// The two kinds of records, and either of them with what both have.
var (
	Providers    = recordCalls[NewProvider, ProviderChange, Provider](federation.KindProvider)
	Applications = recordCalls[NewApplication, ApplicationChange, Application](federation.KindApplication)
)

// RecordsOf are the calls for records of a kind; what only applications have is empty in a provider.
func RecordsOf(kind string) RecordCalls[NewRecord, RecordChange, Application] {
	return recordCalls[NewRecord, RecordChange, Application](federation.Kind(kind))
}

func recordCalls[New, Edit, Shown any](kind federation.Kind) RecordCalls[New, Edit, Shown] {
	word, article, path := string(kind), federation.Article(string(kind)), "/"+string(kind)+"s"
	one := path + "/{name}"
	return RecordCalls[New, Edit, Shown]{
		List: gets[Listing, List[Row]](path, "list-"+word+"s", kind.Title()+"s by name"),
		Add:  adds[Sent[New], Shown](path, "add-"+word, "Add "+article+" from its metadata, or from typed values"),
		Preview: looks[Sent[New], Preview](path+"/preview", "preview-"+word,
			"What adding "+article+" would set; for a name that is there, what would change"),
		Show:  gets[Named, Shown](one, "show-"+word, "One "+word),
		Sheet: gets[Named, Sheet](one+"/exchange", word+"-exchange", "What the "+word+" needs from the gate"),
		Change: patches[SentTo[Edit], Shown](one+"/settings", "change-"+word,
			"Change settings of "+article+", one or several; those that are absent stay"),
		Remove:   removes[Named](one, "remove-"+word, "Remove "+article),
		Document: gets[Named, Text](one+"/metadata", "show-"+word+"-metadata", "The document a record was taken in from"),
		Retake: puts[SentTo[Retake], Record](one+"/metadata", "retake-"+word,
			"Take newer values of the other side into a record"),
		Refresh: does[Refreshing, Refreshed](one+"/refresh", "refresh-"+word, "Ask the metadata address now"),
		Approve: does[SentTo[Decision], None](one+"/approve", "approve-"+word, "Apply the change that waits for approval"),
		Decline: does[SentTo[Decision], None](one+"/decline", "decline-"+word,
			"Drop the change that waits, until the metadata changes again"),
		ProposeMapping: gets[Named, MappingProposal](one+"/mapping-proposal", "propose-"+word+"-mapping",
			"Propose a mapping from what arrived of late and what is asked for; nothing is changed"),
	}
}

// UnitCalls are the calls for groups, or organisations.
type UnitCalls struct {
	List   Operation[None, List[Unit]]
	Show   Operation[Named, Unit]
	Put    Operation[SentTo[UnitChange], Unit]
	Remove Operation[Named, None]
}

// UnitsOf are the calls for units of a kind.
func UnitsOf(kind string) UnitCalls {
	path := "/" + kind + "s"
	return UnitCalls{List: gets[None, List[Unit]](path, "list-"+kind+"s", federation.Kind(kind).Title()+"s by name"),
		Show: gets[Named, Unit](path+"/{name}", "show-"+kind, "One "+kind),
		Put:  puts[SentTo[UnitChange], Unit](path+"/{name}", "put-"+kind, "Make a "+kind+", from revision 0, or change it"),
		Remove: removes[Named](path+"/{name}", "remove-"+kind,
			"Remove "+federation.Article(kind)+"; what hangs on it is confirmed")}
}

// large lets the body be as large as any document.
func (o Operation[In, Out]) large() Operation[In, Out] {
	o.Large = true
	return o
}

// answersNothing says so by the status.
func (o Operation[In, Out]) answersNothing() Operation[In, Out] {
	o.Status = http.StatusNoContent
	return o
}
