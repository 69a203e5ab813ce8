package reason

import (
	"cmp"
	"slices"
)

// meaning is what a code is about: under which heading of the journal it is written, and its words.
type meaning struct{ kind, words string }

var meanings = map[Code]meaning{
	WrongPassword:     {KindRefused, "wrong password"},
	UnknownUser:       {KindRefused, "there is no such user"},
	SwitchedOff:       {KindRefused, "the user is switched off"},
	GuessWaits:        {KindRefused, "not judged: wrong passwords came from there for this name, and the next is looked at only after a while (yl slowed list tells when, yl slowed lift makes it at once)"},
	PasswordUnchecked: {KindRefused, "the password could not be checked: {error}"},
	GroupsUnknown:     {KindRefused, "the groups of this user could not be looked up"},
	LoginsLater:       {KindRefused, "the login was left to be tried again, without an answer to the device, so that it does not ask for another password: {error}"},
	NotRecorded:       {KindRefused, "the password is right, but the login could not be recorded, and what is not recorded is not let in: {error}"},
	NoPassage:         {KindRefused, "the password is right, but no passage admits a group of this user ({groups})"},
	OtherTunnel:       {KindRefused, "the password is right, but passage {passage}, which takes this user, comes by tunnel {tunnels} only, not by {tunnel}"},
	OutsideHours:      {KindRefused, "the password is right, but people of passage {passage} may connect only in the hours {hours}[ ({when})]"},
	TooManySessions:   {KindRefused, "the password is right, but this user has {count} sessions already, as many as passage {passage} lets one person have"},
	PassageFull:       {KindRefused, "the password is right, but passage {passage} has {count} sessions already, as many as it may"},
	NoPool:            {KindRefused, "passage {passage} has no pool"},
	PoolOthers:        {KindRefused, "{count} addresses of pool {pool} were tried, and others on the network that it is carved from have them all"},
	PoolExhausted:     {KindRefused, "pool {pool} has no free address: {count} are leased"},
	UnknownPayload:    {KindRefused, "the device insists on something that is not known here (payload {payload})"},
	MalformedMessage:  {KindRefused, "the device sent a malformed message"},
	TooManyMessages:   {KindRefused, "the device needs too many messages to log in"},
	BrokenOff:         {KindRefused, "the device broke off the login[ with {what}]"},
	IncompleteLogin:   {KindRefused, "the device left out what a login needs"},
	MalformedIdentity: {KindRefused, "the device sent a malformed identity or traffic selectors"},
	WrongLoginMethod:  {KindRefused, "the device tries to log in by certificate or shared key, but this tunnel asks for user and password (EAP-MSCHAPv2)"},
	CannotSign:        {KindRefused, "the gateway cannot sign with its certificate: {error}"},
	DialsWrongName:    {KindRefused, `the device dials "{name}", but this gateway is {names}: correct the name on the device`},
	AlgorithmsElsewhere: {
		KindRefused, "the device asks for tunnel {tunnel}, but agreed on algorithms that only another tunnel has",
	},
	NoCommonAlgorithm:     {KindRefused, "a device offers no set of algorithms that this tunnel has"},
	NoCommonTrafficCipher: {KindRefused, "the device offers no algorithm for the traffic that this tunnel has"},
	SentOn:                {KindRefused, "the device was sent on to {address}, as tunnel {tunnel} says"},
	LoginAnew:             {KindRefused, "the device may not come back without logging in anew, which it does then: {what}"},
	WrongProof:            {KindRefused, "the device's closing proof of the login is wrong"},
	AsksNoAddress:         {KindRefused, "the device asks for no address, but every person gets one from the pool: let it ask for a virtual address"},
	AsksOtherFamily:       {KindRefused, "the device asks for an address of a family that its passage's pool does not have"},
	SelectorsForeign:      {KindRefused, "the device's traffic selectors have nothing in common with its passage"},
	CertificateNotAccepted: {
		KindRefused, "the device does not accept the gateway's certificate: the name it dials must be in the certificate, and it must trust the certificate's authority",
	},
	SilentAtCertificate: {
		KindRefused, "the login was not finished in time: the device fell silent after it was shown the certificate, which it most likely does not accept",
	},
	SilentOn4500: {
		KindRefused, "the login was not finished in time: the device began by UDP 500 and sent nothing by UDP 4500, which a router on its way most likely drops",
	},
	SilentInLogin: {KindRefused, "the login was not finished in time: the device stopped answering"},
	GaveUp:        {KindRefused, "the device gave up during the login"},
	OthersRefused: {KindRefused, "{count} more refusals of other kinds or from other places until {when}: too many to be told one by one"},

	RenewsWithoutExchange: {KindRefused, "{peer} renews without a key exchange of its own, but this tunnel asks for one (pfs)"},

	EAPMalformed:       {KindRefused, "the device sent a malformed EAP packet"},
	EAPNotAsked:        {KindRefused, "the device answered a question that was not asked"},
	EAPOtherType:       {KindRefused, "the device refuses EAP-MSCHAPv2 and asks for EAP type {eap}"},
	EAPNoIdentity:      {KindRefused, "the device did not tell an identity"},
	EAPGatewayRejected: {KindRefused, "the device did not accept the gateway's proof of the password"},
	EAPOutOfTurn:       {KindRefused, "the device sent an EAP packet out of turn"},
	EAPNoRandomness:    {KindRefused, "no randomness for a challenge"},
	EAPBadResponse:     {KindRefused, "the device sent a malformed MS-CHAPv2 response"},
	EAPNoName:          {KindRefused, "the device sent no usable user name"},

	IdleLimit:         {KindEnded, "its device sent nothing for {limit}"},
	LongestLimit:      {KindEnded, "it lasted {limit}, the longest that passage {passage} allows"},
	HoursOver:         {KindEnded, "the hours {hours} are over"},
	CameAgain:         {KindEnded, "the same device came again, and said that it has no other session: this one was lost there"},
	LoggedInElsewhere: {KindEnded, "the same user logged in once more, and passage {passage} lets the newest session win"},
	EndedBy:           {KindEnded, "ended by administrator {administrator}"},
	PlanNoPassage:     {KindEnded, "the plan changed: no passage admits this person any more"},
	PlanOtherPassage:  {KindEnded, "the plan changed: another passage takes this person"},
	PlanOtherTunnel:   {KindEnded, "the plan changed: the passage no longer comes by this tunnel"},
	PlanAddressKept:   {KindEnded, "the plan changed: the leased address is kept for somebody else now"},
	PlanAddressGone:   {KindEnded, "the plan changed: the leased address no longer belongs to the pool"},
	PlanOtherRoutes:   {KindEnded, "the plan changed: other routes go through the tunnel"},
	PlanOtherNames:    {KindEnded, "the plan changed: other names are given"},
	KeysNotRenewed:    {KindEnded, "the keys of the session were used for as long as they may be, and {peer} did not renew them"},
	CiphersNotRenewed: {KindEnded, "the keys of the traffic were used for as long as they may be, and {peer} did not renew them"},
	MovedElsewhere:    {KindEnded, "the device turned up at {address}, having logged in from {source}, which its passage forbids"},
	NoLongerAnswers:   {KindEnded, "{peer} no longer answers"},
	PeerEnded:         {KindEnded, "{peer} ended the session"},
	PeerUnreadable:    {KindEnded, "{peer} sent {what} that cannot be read"},
	GatewayStops:      {KindEnded, "the gateway stops"},
	UserChanged:       {KindEnded, "the user was changed"},
	UserChangedEarly:  {KindEnded, "the user was changed while logging in"},
	TrialOver:         {KindEnded, "its trial is over"},

	CameBack:            {KindLogin, "came back, without logging in anew, by passage {passage} and tunnel {tunnel} with address {addresses} ({suite})"},
	LoggedIn:            {KindLogin, "logged in by passage {passage} and tunnel {tunnel} with address {addresses} ({suite})"},
	RulePermits:         {KindRule, "permitted by rule {rule}: {service} from {source} to {destination}[ (from inside to the person's {peer})]"},
	RuleRefuses:         {KindRule, "refused by rule {rule}: {service} from {source} to {destination}[ (from inside to the person's {peer})]"},
	Committed:           {KindCommit, "revision {revision}: {message}"},
	Kept:                {KindCommit, "revision {revision} is kept"},
	KeptByRound:         {KindCommit, "revision {revision} is kept: round {round} saw nothing fail that held before"},
	CommitLeft:          {KindCommit, "draft {name} was not committed: the service ended while it looked how things were before; commit it again"},
	DoesNotGoBack:       {KindCommit, "revision {revision} should go back to revision {back} by itself, for {what}, and does not yet: {error}; it is tried again every {seconds}"},
	NewestDoesNotRun:    {KindCommit, "{error}"},
	CertificateMade:     {KindTrust, "certificate {certificate} was made anew by {administrator}"},
	CertificateRenewed:  {KindTrust, "certificate {certificate} was made anew before its end on {until}; devices need nothing new"},
	CertificateImported: {KindTrust, "certificate {certificate} was imported by {administrator}"},
	CertificateRevoked:  {KindTrust, "certificate {certificate} was revoked by {administrator}: {what}"},
	PasswordChanged:     {KindTrust, "administrator {administrator} has a new password; {count} other sessions and tokens ended"},
	GuessesLifted:       {KindTrust, "administrator {administrator} let passwords be looked at again at once ({count})"},
	NameFails:           {KindName, "the name {name} is not kept up to date: {error}"},
	NameLeads:           {KindName, "the name {name} leads to {addresses} now"},
	NameKept:            {KindName, "the name {name} is kept up to date again"},
	ReachChanged:        {KindReach, "round {round}: {change}"},
	Recorded:            {KindRecord, "administrator {administrator} records this session's packets, for {seconds} seconds at most"},
	EvidenceSaved:       {KindRecord, "administrator {administrator} saved the evidence about a complaint of this user: {what}"},

	NoInsidePort:      {words: "nothing carries packets to the inside: people come in, and reach nothing; start the service with --inside linux, on the machine that is the gateway, or with --site-lab"},
	AddressInUse:      {KindMachine, "{addresses} of pool {pool} is not leased for now: {what} has it on the network that the pool is carved from; keep it out of the pool (exclude), or that machine and the DHCP server off it"},
	GatewayAway:       {KindMachine, "the gateway is not reached: {error}; sessions go on as they were, and nothing of them is seen from here"},
	GatewayBack:       {KindMachine, "the gateway is reached again"},
	GatewayNotReached: {words: "the gateway is not reached: {error}; what it carries goes on as it was, and is not seen from here"},
	AnswersNowhere:    {words: "{addresses} lie on no network that the gateway is plugged into, so nobody there finds them: attach it where the pool is carved from"},
	NothingRunsHere:   {words: "no gateway runs: nobody comes in"},

	NotAttached:          {words: "this machine has no link with {addresses}, its address on {network}: nobody reaches that network; give a link the address, or correct {setting}"},
	NoWayOut:             {words: "this machine has no link with one of {addresses}, and no default route: nobody reaches the internet by it; give a link the address and a default route, or correct {setting}"},
	LinkDown:             {words: "link {link}, which leads to {network}, is down: nobody reaches that network; look at its cable or its other end (ip link show {link})"},
	RouteDiffers:         {words: "this machine sends {what} {way}, and the plan says via {via} dev {link}; the machine's route stays as it is: correct the plan, or take the route away (ip route del {what})"},
	RouteNotTaken:        {words: "the kernel does not take a route to {what}: {error}"},
	PoolTaken:            {words: "this machine sends {what} {way}, and pool {pool} has it for people: choose another prefix for the pool, or take the route away (ip route del {what})"},
	ForwardingOff:        {words: "forwarding is off ({setting}): what people send goes no further; say settings: set at the gateway's machine in the plan, or sysctl -w {setting}={value}"},
	RouterAdvertisements: {words: "{setting} is 1: with IPv6 forwarding on this machine takes no default route from router advertisements any longer; say settings: set at the gateway's machine in the plan, or sysctl -w {setting}={value}"},
	ReverseFilter:        {words: "{setting} is strict, and packets from {network} may come by more than one link: those by the other are lost; sysctl -w {setting}={value}"},
	SettingNotTaken:      {words: "{setting} cannot be set to {value}: {error}"},
	RulesNotTaken:        {words: "{error}: nothing is translated, and whoever says that a packet is from anywhere is believed; look whether this kernel has nf_tables"},
	DeviceGone:           {words: "the device {link} is gone: nothing gets to people or comes from them; it is made again"},
	OthersTranslate:      {words: "{what} comes before our translation, and may change where people's packets come from or go to: make it leave out {addresses}"},
	OthersDrop:           {words: "{what} may drop what people send or get: let {link} and {addresses} pass there"},
	TimeoutsNotTaken:     {KindMachine, "this kernel cannot be told how long to remember people's connections: its own times hold"},
	Drifted:              {KindMachine, "somebody changed {what} on this machine by hand (seen {when}); people are served otherwise than the plan says until it is as it was; it is put right by the next commit or restart, or by itself where the plan says drift: mend"},
	DriftMended:          {KindMachine, "somebody changed {what} on this machine by hand; it is as the plan says again"},
	DriftFought:          {KindMachine, "{what} on this machine is changed again and again ({count} times): another tool undoes what we mend; it is looked at every {seconds} seconds now"},
	AnswersHeldBack:      {words: "{setting} keeps this machine from answering at once for people's addresses: say settings: set at the gateway's machine in the plan, or sysctl -w {setting}={value}"},

	NotThere:         {words: "there is no {what} \"{name}\""},
	ThereAlready:     {words: "{what} \"{name}\" exists already"},
	ChangedMeanwhile: {words: "{what} \"{name}\" was changed meanwhile: load it again, and make your change on that"},
	DraftChanged:     {words: "draft \"{name}\" was changed meanwhile and is version {count} since {when}: load it again, and make your change on that. Against what you sent it has this:"},
	DraftBehind:      {words: "revision {revision} was committed by {who} ({message}) after this draft was begun on {back}: rebase it first (yl plan rebase --draft {name}). It did this:"},
	NoPlanYet:        {words: "no plan is committed yet: yl plan load FILE, then yl plan commit"},

	NotConnected:     {words: "not connected"},
	LoginFailed:      {words: "not tried: the login failed"},
	PingAnswered:     {words: "ping answered in {took}[, by name {name}]"},
	CannotPing:       {words: "not tried: ping needs privileges here"},
	NotSpoken:        {words: "not tried: the probe does not speak {service}"},
	CannotSend:       {words: "not tried: {error}"},
	Connected:        {words: "connected in {took}[, by name {name}]"},
	Answered:         {words: "answered in {took}[, by name {name}]"},
	PageServed:       {words: "connected in {took}[, TLS for {tls}]: \"{page}\"[, by name {name}]"},
	NotAsTheWeb:      {words: "connected in {took}[, TLS for {tls}], and does not answer {what} as the web does[, by name {name}]"},
	Hangs:            {words: "connected in {took}[, TLS for {tls}], but {what} gets no answer: packets larger than those that open a connection are lost, or the service hangs[, by name {name}]"},
	PortClosed:       {words: "the host answers, but the port is closed"},
	NoAnswer:         {words: "no answer"},
	RouterSaid:       {words: "no answer: {said} (said by {by})"},
	NameServed:       {words: "the name server answers in {took}"},
	NameServerNo:     {words: "the name server refuses to answer"},
	NameUnresolved:   {words: "the name {name} does not resolve: {error}"},
	NameServerSilent: {words: "the name {name} does not resolve: name server {address} does not answer"},
	NameUnknown:      {words: "the name {name} does not resolve: name server {address} does not know it"},
	NameElsewhere:    {words: "the name {name} resolves to {addresses}, the plan says {planned}"},
	NotRouted:        {words: "the device does not send it into the tunnel, and its own network has no such address family"},

	SaidNoRoute:       {words: "no route"},
	SaidHostSilent:    {words: "host not reached"},
	SaidPortClosed:    {words: "port closed"},
	SaidTooLarge:      {words: "packet too large"},
	SaidProhibited:    {words: "prohibited"},
	SaidHopLimit:      {words: "hop limit used up"},
	SaidSomethingElse: {words: "ICMP {what}"},

	FaultSilent500:   {words: "nothing answers on UDP 500"},
	FaultSilent4500:  {words: "UDP 500 is answered and UDP 4500 is not"},
	FaultSilentTCP:   {words: "UDP is not answered, and over TCP nobody speaks IKE"},
	FaultCertificate: {words: "the device does not accept the gateway's certificate"},
	FaultRefused:     {words: "the gateway refuses the login"},
	FaultName:        {words: "the name that people dial does not resolve"},
	FaultOther:       {words: "the login failed"},
}

// Meaning is a code with its heading in the journal (empty: it is not journalled) and its words, with {parameters}.
type Meaning struct {
	Code        Code
	Kind, Words string
}

// All lists every code, in order.
func All() (out []Meaning) {
	for c, m := range meanings {
		out = append(out, Meaning{c, m.kind, m.words})
	}
	slices.SortFunc(out, func(a, b Meaning) int { return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Code, b.Code)) })
	return out
}
