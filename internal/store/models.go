package store

import (
	"encoding/json"
	"strings"
	"time"

	"urgentis/core/alert"
	"urgentis/core/links"
)

// The models are rows, one for one. They never leave the service: answers are api types.

// Labels is a JSON object of texts.
type Labels map[string]string

// Instance is one running service on this database.
type Instance struct {
	ID       string
	Host     string
	PID      int `gorm:"column:pid"`
	Version  string
	BegunAt  time.Time
	BeatAt   time.Time
	FencedAt *time.Time
	// Boot and BegunTicks tell one process from another: the boot and the process namespace it runs under, and when
	// it began.
	Boot       string
	BegunTicks int64
	// Beats counts them; SkewMS is how far the clock of its machine is ahead of the database's, in milliseconds.
	Beats  int64
	SkewMS int64 `gorm:"column:skew_ms"`
	// ReportedAt is when it said what became of all it had begun; GoneAt when it was seen, or said, to be gone.
	ReportedAt *time.Time
	GoneAt     *time.Time
	GoneBy     string
}

// Person is somebody who signs in.
type Person struct {
	Name         string `gorm:"primaryKey"`
	PasswordHash string
	Roles        string // separated by spaces
	AddedAt      time.Time
}

// Session is a person's browser that is signed in.
type Session struct {
	Hash      []byte `gorm:"primaryKey"`
	Person    string
	BegunAt   time.Time
	ExpiresAt time.Time
}

// Token lets a program in.
type Token struct {
	Name       string `gorm:"primaryKey"`
	Hash       []byte
	Roles      string
	MadeBy     string
	ExpiresAt  time.Time
	LastUsedAt *time.Time
	// OnMachine: it was made on the machine of the service, where its maker need not be a person who signs in.
	OnMachine bool
}

// Act is one line of the audit log.
type Act struct {
	ID                          int64
	At                          time.Time
	Actor, Act, Subject, Detail string
}

// Source is where alerts come from.
type Source struct {
	Name        string `gorm:"primaryKey"`
	CallBack    string
	Says        string // the text of its document
	AddedAt     time.Time
	LastAlertAt *time.Time
}

// Service is something that a team owns.
type Service struct {
	Name                 string `gorm:"primaryKey"`
	Title, Owner, Stance string
	// QuietMinutes is how long an alert may go on after its incident was closed; 0: 15.
	QuietMinutes int
	// DependsOn are the services that it needs.
	DependsOn []string `gorm:"serializer:json"`
	// Harm says in words who suffers when it is in trouble.
	Harm string
	// Links are pages outside that tell more of it; their addresses have holes.
	Links []links.Link `gorm:"serializer:json"`
	// FirstLook names a runbook that only looks, for alerts that start nothing; "" for none.
	FirstLook string
}

// Target is a host that runbooks act on.
type Target struct {
	Name    string `gorm:"primaryKey"`
	Service string
	Address string
	Port    int
	Account string
	Secret  string
	HostKey string
	Labels  Labels         `gorm:"serializer:json"`
	Known   map[string]any `gorm:"serializer:json"`
	// LookAccount and LookSecret are for looking only: an account without rights to write.
	LookAccount, LookSecret string
	// LookCannotWrite: whatever account it is looked at with cannot write there, by an administrator's word.
	LookCannotWrite bool
	// Device is the kind of device that it is, spoken with in a dialogue; "" is a host with a shell.
	Device string
}

// Secret is one sealed version of a key or password.
type Secret struct {
	Name    string `gorm:"primaryKey"`
	Version int    `gorm:"primaryKey"`
	Kind    string
	Sealed  []byte
	SetBy   string
	SetAt   time.Time
	// RemovedAt is set once its value is gone.
	RemovedAt *time.Time
}

// Revision is one text of a runbook; never altered.
type Revision struct {
	Name     string `gorm:"primaryKey"`
	Number   int    `gorm:"primaryKey"`
	Revision string
	Text     string
	Title    string
	Owner    string
	Service  string
	About    string
	Tags     []string `gorm:"serializer:json"`
	PushedBy string
	PushedAt time.Time
}

// Incident is the head of a record.
type Incident struct {
	Number    int64 `gorm:"primaryKey"`
	Title     string
	State     string
	WaitingOn string
	Outcome   string
	Because   string
	Severity  string
	Service   string
	OpenedAt  time.Time
	ClosedAt  *time.Time
	Entries   int64
	LastHash  string
	// TitleBy and SeverityBy set them by hand; "" where they follow the worst alert.
	TitleBy, SeverityBy string
	// TitleRun is the run that names it by what it reads; "" where none does. WorstTitle and WorstValue are how it was
	// named as that was at its worst.
	TitleRun, WorstTitle string
	WorstValue           *float64
	// Holder looks after it; "" for nobody.
	Holder string
	// HeldAt is when that person took it; nil where it was handed to them and they did not. Former had it before.
	HeldAt *time.Time
	Former string
	// WantedAt is since when the incident itself wants somebody, without an alert: a person opened it, or opened it
	// again.
	WantedAt *time.Time
	// SeverityAt is when its severity was set by hand.
	SeverityAt *time.Time
	// MergedInto took its alerts over; nil for none.
	MergedInto *int64
	Alerts     int64
	// Harm and Cause are a person's words; "" where nobody stated them.
	Harm, Cause string
	// Notes is what is searched besides the title: what its alerts said and people wrote, as far as it has room.
	Notes string
}

// maxNotes bounds what is searched of a record, in bytes.
const maxNotes = 32 << 10

// Say adds a text to what is searched.
func (i *Incident) Say(text string) {
	if text != "" && len(i.Notes)+len(text) < maxNotes && !strings.Contains(i.Notes, text) {
		i.Notes += text + "\n"
	}
}

// Entry is one line of a record.
type Entry struct {
	Incident int64 `gorm:"primaryKey"`
	Seq      int64 `gorm:"primaryKey"`
	At       time.Time
	Kind     string
	Actor    string
	Run      string
	Step     string
	Title    string
	Content  *string
	Digest   string
	Prev     string
	Hash     string
}

// Alert is one condition from when it was raised until it cleared.
type Alert struct {
	ID       string
	Source   string
	Key      string
	State    string
	Severity string
	Summary  string
	Service  string
	Link     string
	Labels   Labels `gorm:"serializer:json"`
	Count    int64
	// FirstAt and LastAt are when it was reported, ClearedAt when it was over; zero while it is not.
	FirstAt, LastAt, ClearedAt alert.Heard
	// FirstSaid and LastSaid are what its sender says of that; zero where it was not kept.
	FirstSaid, LastSaid alert.Said
	Incident            *int64
	// JoinKey is by what others join its incident as long as it is open; "" where that key leads elsewhere.
	JoinKey string
	// TreatedRun treated it last: TreatedAs is how it said that ended, TreatedWorth how bad the alert was as it began.
	TreatedRun, TreatedAs string
	TreatedWorth          int
	TreatedAt             alert.Heard
	// MutedBy is the planned work that holds it back until MutedUntil; "" for none.
	MutedBy    string
	MutedUntil alert.Heard
	// Since is since when it is as bad as it is: raised, worse, opened again, split off, or its planned work ended.
	Since    alert.Heard
	Verdicts json.RawMessage `gorm:"type:jsonb"`
}

// Run is the head of a run's log, with its claim.
type Run struct {
	ID        string
	Runbook   string
	Title     string
	Revision  string
	Incident  *int64
	State     string
	WaitsOn   string
	StartedBy string
	Because   string
	BegunAt   time.Time
	EndedAt   *time.Time
	Owner     *string
	Epoch     int64
	Version   int64
	RungAt    *time.Time
	Rules     int
	Awaits    string // the run that holds what this one waits for
	Alert     string // the alert that started it
	AgainOf   string // the run whose inputs it was begun with again
	Service   string // the runbook's
	// QuarantinedAt is when it was taken out of all hands because instances died of it.
	QuarantinedAt *time.Time
}

// Event is one entry of a run's log.
type Event struct {
	Run  string `gorm:"primaryKey"`
	Seq  int64  `gorm:"primaryKey"`
	At   time.Time
	Path string
	Kind string
	Body string
}

// Gate is the state of a gate, computed from its run's log.
type Gate struct {
	ID        string
	Run       string
	Incident  *int64
	Path      string
	Title     string
	State     string
	RaisedAt  time.Time
	Until     time.Time
	DecidedBy string
	Comment   string
	Raised    json.RawMessage `gorm:"type:jsonb"`
	// LookAt is when its readings are taken anew next, nil: never; Looks is how often they were.
	LookAt *time.Time
	Looks  int
}

// Question is the state of a question, computed from its run's log.
type Question struct {
	ID       string
	Run      string
	Incident *int64
	Path     string
	Title    string
	State    string
	RaisedAt time.Time
	Until    time.Time
	Raised   json.RawMessage `gorm:"type:jsonb"`
}

// Delivery is one message on its way out.
type Delivery struct {
	ID   int64
	Key  string
	Kind string // that of the connection, or DeliverySource
	// Connection is the connection's or the source's name.
	Connection string `gorm:"column:address"`
	Body       string
	// Receiver is the person, or room/NAME, and Address where they are there; "" for what is told to no person.
	Receiver string
	Address  string `gorm:"column:at_address"`
	Urgent   bool
	Incident *int64
	State    string // queued, sent or failed
	Tries    int
	// Unsure: of a try before nobody knows whether it arrived.
	Unsure bool
	Error  string
	// Answer is what the other side said as it took it.
	Answer   string
	QueuedAt time.Time
	SentAt   *time.Time
	// Thread is what arrives in its order; "" for none. Does is what a source is told to do.
	Thread, Does string
}

// What deliveries are that are no message to people.
const (
	DeliverySource = "source" // a call-back to where an alert came from
	DeliveryDesk   = "desk"   // something that a ticket desk is told
)

// Artifact is the whole of an output, compressed.
type Artifact struct {
	ID   string
	Size int64
	Body []byte
	At   time.Time
}

// Feed is one line of what changed.
type Feed struct {
	ID       int64
	Xid      string `gorm:"->"`
	Topic    string
	Ref      string
	Incident *int64
	Service  string // whose thing it is; "" for the installation's
}
