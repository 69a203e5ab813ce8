package reason

// Kinds of lines in the journal.
const (
	KindLogin   = "login"
	KindRefused = "refused"
	KindEnded   = "ended"
	KindRule    = "rule"
	KindCommit  = "commit"
	KindTrust   = "trust"
	KindName    = "name"
	KindReach   = "reach"
	KindRecord  = "record"
	KindMachine = "machine"
)

// Why a login was refused.
const (
	WrongPassword          Code = "wrong-password"
	UnknownUser            Code = "unknown-user"
	SwitchedOff            Code = "switched-off"
	GuessWaits             Code = "guess-waits"
	PasswordUnchecked      Code = "password-unchecked"
	GroupsUnknown          Code = "groups-unknown"
	NotRecorded            Code = "not-recorded"
	LoginsLater            Code = "logins-later"
	NoPassage              Code = "no-passage"
	OtherTunnel            Code = "other-tunnel"
	OutsideHours           Code = "outside-hours"
	TooManySessions        Code = "too-many-sessions"
	PassageFull            Code = "passage-full"
	NoPool                 Code = "no-pool"
	PoolExhausted          Code = "pool-exhausted"
	PoolOthers             Code = "pool-others"
	UnknownPayload         Code = "unknown-payload"
	MalformedMessage       Code = "malformed-message"
	TooManyMessages        Code = "too-many-messages"
	BrokenOff              Code = "broken-off"
	IncompleteLogin        Code = "incomplete-login"
	MalformedIdentity      Code = "malformed-identity"
	WrongLoginMethod       Code = "wrong-login-method"
	CannotSign             Code = "cannot-sign"
	DialsWrongName         Code = "dials-wrong-name"
	AlgorithmsElsewhere    Code = "algorithms-of-other-tunnel"
	NoCommonAlgorithm      Code = "no-common-algorithm"
	NoCommonTrafficCipher  Code = "no-common-traffic-algorithm"
	SentOn                 Code = "sent-on"
	LoginAnew              Code = "login-anew"
	WrongProof             Code = "wrong-proof"
	AsksNoAddress          Code = "asks-no-address"
	AsksOtherFamily        Code = "asks-other-family"
	SelectorsForeign       Code = "selectors-foreign"
	CertificateNotAccepted Code = "certificate-not-accepted"
	SilentAtCertificate    Code = "silent-at-certificate"
	SilentOn4500           Code = "silent-on-4500"
	SilentInLogin          Code = "silent-in-login"
	GaveUp                 Code = "gave-up"
	OthersRefused          Code = "others-refused"
	RenewsWithoutExchange  Code = "renews-without-key-exchange"
)

// Why an EAP conversation failed (RFC 3748) beside what is wrong with the person.
const (
	EAPMalformed       Code = "eap-malformed"
	EAPNotAsked        Code = "eap-not-asked"
	EAPOtherType       Code = "eap-other-type"
	EAPNoIdentity      Code = "eap-no-identity"
	EAPGatewayRejected Code = "eap-gateway-rejected"
	EAPOutOfTurn       Code = "eap-out-of-turn"
	EAPNoRandomness    Code = "eap-no-randomness"
	EAPBadResponse     Code = "eap-bad-response"
	EAPNoName          Code = "eap-no-name"
)

// Why a session ended.
const (
	IdleLimit         Code = "idle-limit"
	LongestLimit      Code = "longest-limit"
	HoursOver         Code = "hours-over"
	LoggedInElsewhere Code = "logged-in-elsewhere"
	CameAgain         Code = "came-again"
	EndedBy           Code = "ended-by-administrator"
	PlanNoPassage     Code = "plan-no-passage"
	PlanOtherPassage  Code = "plan-other-passage"
	PlanOtherTunnel   Code = "plan-other-tunnel"
	PlanAddressKept   Code = "plan-address-kept"
	PlanAddressGone   Code = "plan-address-gone"
	PlanOtherRoutes   Code = "plan-other-routes"
	PlanOtherNames    Code = "plan-other-names"
	KeysNotRenewed    Code = "keys-not-renewed"
	CiphersNotRenewed Code = "traffic-keys-not-renewed"
	MovedElsewhere    Code = "moved-elsewhere"
	NoLongerAnswers   Code = "no-longer-answers"
	PeerEnded         Code = "peer-ended"
	PeerUnreadable    Code = "peer-unreadable"
	GatewayStops      Code = "gateway-stops"
	UserChanged       Code = "user-changed"
	UserChangedEarly  Code = "user-changed-in-login"
	TrialOver         Code = "trial-over"
)

// What else the journal tells.
const (
	LoggedIn            Code = "logged-in"
	CameBack            Code = "came-back"
	RulePermits         Code = "rule-permits"
	RuleRefuses         Code = "rule-refuses"
	Committed           Code = "committed"
	Kept                Code = "kept"
	KeptByRound         Code = "kept-by-round"
	CommitLeft          Code = "commit-left"
	DoesNotGoBack       Code = "does-not-go-back"
	NewestDoesNotRun    Code = "newest-does-not-run"
	CertificateMade     Code = "certificate-made"
	CertificateRenewed  Code = "certificate-renewed"
	CertificateImported Code = "certificate-imported"
	CertificateRevoked  Code = "certificate-revoked"
	PasswordChanged     Code = "administrator-password-changed"
	GuessesLifted       Code = "guesses-lifted"
	NameFails           Code = "name-not-updated"
	NameLeads           Code = "name-updated"
	NameKept            Code = "name-updated-again"
	ReachChanged        Code = "reach-changed"
	Recorded            Code = "session-recorded"
	EvidenceSaved       Code = "evidence-saved"
)

// What a trial of one service saw.
const (
	NotConnected     Code = "not-connected"
	LoginFailed      Code = "login-failed"
	PingAnswered     Code = "ping-answered"
	CannotPing       Code = "cannot-ping"
	NotSpoken        Code = "not-spoken"
	CannotSend       Code = "cannot-send"
	Connected        Code = "connected"
	Answered         Code = "answered"
	PageServed       Code = "page-served"
	NotAsTheWeb      Code = "not-as-the-web"
	Hangs            Code = "hangs"
	PortClosed       Code = "port-closed"
	NoAnswer         Code = "no-answer"
	RouterSaid       Code = "router-said"
	NameServed       Code = "name-server-answers"
	NameServerNo     Code = "name-server-refuses"
	NameUnresolved   Code = "name-unresolved"
	NameServerSilent Code = "name-server-silent"
	NameUnknown      Code = "name-unknown"
	NameElsewhere    Code = "name-elsewhere"
	NotRouted        Code = "not-routed"
)

// What routers say about packets (RFC 792, RFC 4443).
const (
	SaidNoRoute       Code = "no-route"
	SaidHostSilent    Code = "host-not-reached"
	SaidPortClosed    Code = "said-port-closed"
	SaidTooLarge      Code = "packet-too-large"
	SaidProhibited    Code = "prohibited"
	SaidHopLimit      Code = "hop-limit-used-up"
	SaidSomethingElse Code = "icmp"
)

// Why a trial's login failed.
const (
	FaultSilent500   Code = "silent-500"
	FaultSilent4500  Code = "silent-4500"
	FaultSilentTCP   Code = "silent-tcp"
	FaultCertificate Code = "certificate"
	FaultRefused     Code = "refused"
	FaultName        Code = "name"
	FaultOther       Code = "other"
)

// Why the service refused a call.
const (
	NotThere         Code = "not-there"
	ThereAlready     Code = "there-already"
	ChangedMeanwhile Code = "changed-meanwhile"
	DraftChanged     Code = "draft-changed"
	DraftBehind      Code = "draft-behind"
	NoPlanYet        Code = "no-plan-yet"
)

// What is not as it should be on the inside.
const (
	NoInsidePort      Code = "no-inside-port"
	GatewayNotReached Code = "gateway-not-reached"
	AddressInUse      Code = "address-in-use"
	GatewayAway       Code = "gateway-away"
	GatewayBack       Code = "gateway-back"
	AnswersNowhere    Code = "answers-nowhere"
	NothingRunsHere   Code = "nothing-runs"

	NotAttached          Code = "not-attached"
	NoWayOut             Code = "no-way-out"
	LinkDown             Code = "link-down"
	RouteDiffers         Code = "route-differs"
	RouteNotTaken        Code = "route-not-taken"
	PoolTaken            Code = "pool-taken"
	ForwardingOff        Code = "forwarding-off"
	RouterAdvertisements Code = "router-advertisements"
	ReverseFilter        Code = "reverse-filter"
	SettingNotTaken      Code = "setting-not-taken"
	RulesNotTaken        Code = "rules-not-taken"
	DeviceGone           Code = "device-gone"
	OthersTranslate      Code = "others-translate"
	OthersDrop           Code = "others-drop"
	TimeoutsNotTaken     Code = "timeouts-not-taken"
	Drifted              Code = "drifted"
	DriftMended          Code = "drift-mended"
	DriftFought          Code = "drift-fought"
	AnswersHeldBack      Code = "answers-held-back"
)
