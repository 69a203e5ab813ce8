package store

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"gorm.io/gorm"

	"yellowlantern/internal/core/seen"
)

// Administrator may use the console.
type Administrator struct {
	Name string `gorm:"primaryKey"`
	Hash string // argon2id
	Role string `gorm:"default:'administrator'"`
	// MustChange is that the password was made by somebody else, and counts only until another is chosen.
	MustChange bool
	At         time.Time
	// Source is the plan's source of people that they are of, and Groups their groups there, as JSON; Checked is when it said so last, Gone
	// that it no longer does. Of the service's own administrators all of them are empty.
	Source  string `gorm:"default:''"`
	Groups  string `gorm:"default:''"`
	Checked time.Time
	Gone    bool
}

// ConsoleSession is a signed-in browser, by the hash of its cookie.
type ConsoleSession struct {
	Hash          string `gorm:"primaryKey"`
	Administrator string `gorm:"index"`
	At            time.Time
	From          string
	Expires       time.Time
}

// Token lets a program use the API, by the hash of the token.
type Token struct {
	Hash          string `gorm:"primaryKey"`
	Name          string
	Administrator string
	Role          string // whose rights it has; empty: its administrator's
	At            time.Time
	Expires       time.Time // zero, of older ones: never
	Used          time.Time // last, to the minute
}

// Draft is a plan being edited. Version counts its changes.
type Draft struct {
	Name    string `gorm:"primaryKey"`
	Owner   string
	Base    int // revision
	Text    string
	Version int
	At      time.Time
}

// Revision is a committed plan.
type Revision struct {
	Number   int `gorm:"primaryKey;autoIncrement:false"`
	Text     string
	Author   string
	Message  string
	Accepted string // warnings, as JSON
	At       time.Time
}

// OnTrial is the one revision that goes back by itself unless it is kept. There is at most one.
type OnTrial struct {
	ID       uint `gorm:"primaryKey"` // always 1
	Revision int
	Back     int // the revision to go back to
	Until    time.Time
	Boot     string        // which start of the machine UpUntil is about
	UpUntil  time.Duration // the same deadline, by how long the machine is up
	// Baseline is the round that saw how things were before: whether it is kept is decided by holding a round like it against that one.
	// 0: by whoever committed it.
	Baseline uint
	Try      string // what that round is to try, JSON
	By       string
}

// CommitStep is a commit that was asked for and that waits, with nothing of it in effect yet.
type CommitStep struct {
	ID    uint `gorm:"primaryKey"`
	Draft string
	By    string
	At    time.Time
}

// JournalEntry is one line of the journal.
type JournalEntry struct {
	ID      uint `gorm:"primaryKey"`
	At      time.Time
	Kind    string `gorm:"index"`
	Gateway string
	User    string `gorm:"index"`
	From    string
	Words   string
	Reason  string `gorm:"index"` // the code of why
	With    string // its parameters, as JSON
	// Code, Offered and Wanted are in lines of versions that had no codes for reasons: the protocol's own error, and algorithms.
	Code, Offered, Wanted string
	// Hash chains it to the line before; nil: it is from before there was a chain.
	Hash []byte
}

// ProbeReport is what a probe saw.
type ProbeReport struct {
	ID       uint `gorm:"primaryKey"`
	At       time.Time
	User     string `gorm:"index"`
	Class    string // of people, by its groups
	Vantage  string
	Revision int  `gorm:"index"`
	Round    uint `gorm:"index"` // 0: it was handed in by itself
	OK       bool
	Handed   bool   // it was made elsewhere and handed in
	Report   string // JSON
}

// Round is one trial of every class of people from chosen vantages.
type Round struct {
	ID       uint `gorm:"primaryKey"`
	At       time.Time
	Ended    time.Time
	By       string
	Revision int
	Vantages string // separated by spaces
	Of, Done int
	State    string
	OK       bool
	Words    string
}

// PastSession is a session that ended.
type PastSession struct {
	ID                uint   `gorm:"primaryKey"`
	User              string `gorm:"index"`
	Passage           string
	Addresses         string
	From              string
	Gateway           string
	Code, With        string // why it ended; Reason is that in words
	TCP               bool
	Since, Until      time.Time
	InBytes, OutBytes uint64
	Lost, Missing     uint64
	Reason            string
}

// Schedule is when rounds are made by themselves. There is at most one.
type Schedule struct {
	ID       uint          `gorm:"primaryKey"` // always 1
	Every    time.Duration // 0: never
	Vantages string
	By       string
}

// HasAdministrator tells whether the first start is over.
func (s *Store) HasAdministrator(ctx context.Context) (bool, error) {
	var n int64
	err := s.db.WithContext(ctx).Model(&Administrator{}).Count(&n).Error
	return n > 0, err
}

// AddFirstAdministrator adds one if there is none; ErrExists otherwise.
func (s *Store) AddFirstAdministrator(ctx context.Context, a Administrator) error {
	defer s.trust.Add(1)
	return s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		var n int64
		if err := db.Model(&Administrator{}).Count(&n).Error; err != nil {
			return err
		}
		if n > 0 {
			return ErrExists
		}
		return db.Create(&a).Error
	})
}

// Administrator finds one by name.
func (s *Store) Administrator(ctx context.Context, name string) (a Administrator, err error) {
	err = translate(s.db.WithContext(ctx).First(&a, "name = ?", name).Error)
	return a, err
}

// AddConsoleSession keeps a signed-in browser, and forgets those that expired.
func (s *Store) AddConsoleSession(ctx context.Context, c ConsoleSession) error {
	if err := s.db.WithContext(ctx).Delete(&ConsoleSession{}, "expires < ?", time.Now().UTC()).Error; err != nil {
		return err
	}
	c.Expires = c.Expires.UTC()
	return s.db.WithContext(ctx).Create(&c).Error
}

// ConsoleSession finds a signed-in browser.
func (s *Store) ConsoleSession(ctx context.Context, hash string) (c ConsoleSession, err error) {
	err = translate(s.db.WithContext(ctx).First(&c, "hash = ? AND expires > ?", hash, time.Now().UTC()).Error)
	return c, err
}

// EndConsoleSession signs a browser out.
func (s *Store) EndConsoleSession(ctx context.Context, hash string) error {
	return s.db.WithContext(ctx).Delete(&ConsoleSession{}, "hash = ?", hash).Error
}

// AddToken keeps an API token.
func (s *Store) AddToken(ctx context.Context, t Token) error {
	return translate(s.db.WithContext(ctx).Create(&t).Error)
}

// Token finds an API token that has not expired.
func (s *Store) Token(ctx context.Context, hash string) (t Token, err error) {
	err = translate(s.db.WithContext(ctx).First(&t, "hash = ?", hash).Error)
	if err == nil && !t.Expires.IsZero() && time.Now().After(t.Expires) {
		return Token{}, ErrNotFound
	}
	return t, err
}

// ConsoleSessions lists an administrator's signed-in browsers, the newest first.
func (s *Store) ConsoleSessions(ctx context.Context, administrator string) (cs []ConsoleSession, err error) {
	err = s.db.WithContext(ctx).Where("administrator = ? AND expires > ?", administrator, time.Now().UTC()).Order("at DESC").Find(&cs).Error
	return cs, err
}

// SetAdministratorPassword replaces a password's hash, and ends what that administrator is signed in by, but for one (by its hash). It
// gives the hashes of what ended.
func (s *Store) SetAdministratorPassword(ctx context.Context, name, hash, but string, must bool) (ended []string, err error) {
	err = s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		r := db.Model(&Administrator{}).Where("name = ?", name).Updates(map[string]any{"hash": hash, "must_change": must})
		if r.Error == nil && r.RowsAffected == 0 {
			return ErrNotFound
		}
		if r.Error != nil {
			return r.Error
		}
		for _, kind := range []any{&ConsoleSession{}, &Token{}} {
			var hashes []string
			if err := db.Model(kind).Where("administrator = ? AND hash <> ?", name, but).Pluck("hash", &hashes).Error; err != nil {
				return err
			}
			if err := db.Where("administrator = ? AND hash <> ?", name, but).Delete(kind).Error; err != nil {
				return err
			}
			ended = append(ended, hashes...)
		}
		return nil
	})
	return ended, err
}

// Tokens lists the API tokens by time.
func (s *Store) Tokens(ctx context.Context) (ts []Token, err error) {
	err = s.db.WithContext(ctx).Order("at").Find(&ts).Error
	return ts, err
}

// RemoveToken makes a token worthless; ErrNotFound if there is none with that hash.
func (s *Store) RemoveToken(ctx context.Context, hash string) error {
	r := s.db.WithContext(ctx).Delete(&Token{}, "hash = ?", hash)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}

// Drafts lists all drafts by name.
func (s *Store) Drafts(ctx context.Context) (ds []Draft, err error) {
	err = s.db.WithContext(ctx).Order("name").Find(&ds).Error
	return ds, err
}

// Draft finds one by name.
func (s *Store) Draft(ctx context.Context, name string) (d Draft, err error) {
	err = translate(s.db.WithContext(ctx).First(&d, "name = ?", name).Error)
	return d, err
}

// SaveDraft writes a draft whose version is still expected (0: it must not exist yet), and gives it with its new version.
func (s *Store) SaveDraft(ctx context.Context, d Draft, expected int) (Draft, error) {
	d.At = time.Now().UTC()
	d.Version = expected + 1
	if expected == 0 {
		return d, translate(s.db.WithContext(ctx).Create(&d).Error)
	}
	r := s.db.WithContext(ctx).Model(&Draft{}).Where("name = ? AND version = ?", d.Name, expected).
		Updates(map[string]any{"text": d.Text, "base": d.Base, "owner": d.Owner, "version": d.Version, "at": d.At})
	if r.Error == nil && r.RowsAffected == 0 {
		return d, ErrStale
	}
	return d, r.Error
}

// DeleteDraft forgets a draft.
func (s *Store) DeleteDraft(ctx context.Context, name string) error {
	r := s.db.WithContext(ctx).Delete(&Draft{}, "name = ?", name)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}

// Newest is the newest revision; ErrNotFound if none was committed.
func (s *Store) Newest(ctx context.Context) (r Revision, err error) {
	err = translate(s.db.WithContext(ctx).Order("number DESC").First(&r).Error)
	return r, err
}

// NewestNumber is the number of the newest revision; 0 if none was committed.
func (s *Store) NewestNumber(ctx context.Context) (n int, err error) {
	err = s.db.WithContext(ctx).Model(&Revision{}).Select("COALESCE(MAX(number), 0)").Scan(&n).Error
	return n, err
}

// Revision finds one by number.
func (s *Store) Revision(ctx context.Context, number int) (r Revision, err error) {
	err = translate(s.db.WithContext(ctx).First(&r, "number = ?", number).Error)
	return r, err
}

// Revisions lists all, newest first, without their texts.
func (s *Store) Revisions(ctx context.Context) (rs []Revision, err error) {
	err = s.db.WithContext(ctx).Omit("text").Order("number DESC").Find(&rs).Error
	return rs, err
}

// RevisionsThatSay finds the revisions in whose text a word stands, the newest first.
func (s *Store) RevisionsThatSay(ctx context.Context, word string) (numbers []int, err error) {
	err = s.db.WithContext(ctx).Model(&Revision{}).Where("instr(text, ?) > 0", word).Order("number DESC").Pluck("number", &numbers).Error
	return numbers, err
}

// AddRevision writes a revision, removes the draft that it came from, and notes whether it is on trial, all or nothing.
// ErrStale: the number is taken. What was on trial before no longer is.
func (s *Store) AddRevision(ctx context.Context, r Revision, draft Draft, trial *OnTrial) error {
	err := s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		if err := db.Create(&r).Error; err != nil {
			return err
		}
		if err := db.Delete(&OnTrial{}, "id = 1").Error; err != nil {
			return err
		}
		if trial != nil {
			trial.ID, trial.Revision = 1, r.Number
			if err := db.Create(trial).Error; err != nil {
				return err
			}
		}
		if err := db.Delete(&CommitStep{}, "draft = ?", draft.Name).Error; err != nil { // it waits no more
			return err
		}
		return db.Delete(&Draft{}, "name = ? AND version = ?", draft.Name, draft.Version).Error // one that was edited meanwhile stays
	})
	if translate(err) == ErrExists {
		return ErrStale
	}
	return err
}

// BeginCommit notes a commit that will wait.
func (s *Store) BeginCommit(ctx context.Context, c *CommitStep) error {
	return s.db.WithContext(ctx).Create(c).Error
}

// EndCommit forgets one that waits no more.
func (s *Store) EndCommit(ctx context.Context, id uint) error {
	return s.db.WithContext(ctx).Delete(&CommitStep{}, id).Error
}

// LeftCommits gives those that wait: after a start, what was left by the service when it ended.
func (s *Store) LeftCommits(ctx context.Context) (cs []CommitStep, err error) {
	err = s.db.WithContext(ctx).Order("id").Find(&cs).Error
	return cs, err
}

// OnTrial finds the revision that is on trial; ErrNotFound if none is.
func (s *Store) OnTrial(ctx context.Context) (t OnTrial, err error) {
	err = translate(s.db.WithContext(ctx).First(&t).Error)
	return t, err
}

// Keep ends the trial of a revision; ErrNotFound if it is not on trial.
func (s *Store) Keep(ctx context.Context, revision int) error {
	r := s.db.WithContext(ctx).Delete(&OnTrial{}, "revision = ?", revision)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}

// Taken is which of a gateway's events were taken: all up to a number, of the log that numbers them. There is at most one.
type Taken struct {
	ID       uint `gorm:"primaryKey"` // always 1
	Of       string
	Sequence uint64
}

// TakenSoFar is which events were taken; none: the zero value.
func (s *Store) TakenSoFar(ctx context.Context) (t Taken, err error) {
	if err = translate(s.events.WithContext(ctx).First(&t).Error); errors.Is(err, ErrNotFound) {
		err = nil
	}
	return t, err
}

// JournalQuery says which lines are wanted. Empty fields ask for nothing.
type JournalQuery struct {
	Kind, User, Text string
	Code             string            // of the reason
	With             map[string]string // parameters of the reason
	Since, Until     time.Time
	Limit            int
}

// Journal gives lines, newest first.
func (s *Store) Journal(ctx context.Context, want JournalQuery) (es []JournalEntry, err error) {
	q := s.db.WithContext(ctx).Order("id DESC").Limit(want.Limit)
	if want.Kind != "" {
		q = q.Where("kind = ?", want.Kind)
	}
	if want.User != "" {
		q = q.Where("user = ?", want.User)
	}
	if want.Text != "" {
		like := "%" + escapeLike(want.Text) + "%"
		q = q.Where("words LIKE ? ESCAPE '!' OR user LIKE ? ESCAPE '!' OR `from` LIKE ? ESCAPE '!' OR code LIKE ? ESCAPE '!'", like, like, like, like)
	}
	if want.Code != "" {
		q = q.Where("reason = ?", want.Code)
	}
	for name, value := range want.With {
		q = q.Where("json_extract(nullif(`with`, ''), ?) = ?", `$."`+strings.ReplaceAll(name, `"`, "")+`"`, value)
	}
	if !want.Since.IsZero() {
		q = q.Where("at >= ?", want.Since.UTC())
	}
	if !want.Until.IsZero() {
		q = q.Where("at < ?", want.Until.UTC())
	}
	err = q.Find(&es).Error
	return es, err
}

// lately is how many lines of the journal are looked at for one that is ahead of the clock.
const lately = 2000

// AheadOf is the latest moment in the journal's last lines that is after a moment; none: the zero value.
func (s *Store) AheadOf(ctx context.Context, moment time.Time) (time.Time, error) {
	var e JournalEntry
	err := translate(s.events.WithContext(ctx).Where("id > (SELECT max(id) FROM journal_entries) - ? AND at > ?", lately, moment.UTC()).
		Order("at DESC").First(&e).Error)
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return e.At, err
}

// escapeLike makes a text stand for itself in LIKE.
func escapeLike(text string) string {
	return strings.NewReplacer("!", "!!", "%", "!%", "_", "!_").Replace(text)
}

// PastSessions gives sessions that ended, newest first, of one user where given.
func (s *Store) PastSessions(ctx context.Context, user string, limit int) (ps []PastSession, err error) {
	q := s.db.WithContext(ctx).Order("id DESC").Limit(limit)
	if user != "" {
		q = q.Where("user = ?", user)
	}
	err = q.Find(&ps).Error
	return ps, err
}

// AddProbeReport keeps a report.
func (s *Store) AddProbeReport(ctx context.Context, r ProbeReport) (uint, error) {
	err := s.events.WithContext(ctx).Create(&r).Error
	return r.ID, err
}

// ProbeReports gives the newest reports, newest first; of one round, if it is not 0.
func (s *Store) ProbeReports(ctx context.Context, round uint, limit int) (rs []ProbeReport, err error) {
	q := s.db.WithContext(ctx).Order("id DESC").Limit(limit)
	if round != 0 {
		q = q.Where("round = ?", round)
	}
	err = q.Find(&rs).Error
	return rs, err
}

// NewestReports gives the newest report of each class of people from each vantage on a revision, newest first.
func (s *Store) NewestReports(ctx context.Context, revision int) (rs []ProbeReport, err error) {
	newest := s.db.Model(&ProbeReport{}).Select("max(id)").Where("revision = ?", revision).Group("class, vantage, handed")
	err = s.db.WithContext(ctx).Where("id IN (?)", newest).Order("id DESC").Find(&rs).Error
	return rs, err
}

// SaveRound writes a round, a new one if it has no ID yet.
func (s *Store) SaveRound(ctx context.Context, r *Round) error {
	return s.db.WithContext(ctx).Save(r).Error
}

// Rounds gives the newest rounds, newest first.
func (s *Store) Rounds(ctx context.Context, limit int) (rs []Round, err error) {
	err = s.db.WithContext(ctx).Order("id DESC").Limit(limit).Find(&rs).Error
	return rs, err
}

// Round finds one.
func (s *Store) Round(ctx context.Context, id uint) (r Round, err error) {
	err = translate(s.db.WithContext(ctx).First(&r, id).Error)
	return r, err
}

// Schedule gives when rounds are made; none: never.
func (s *Store) Schedule(ctx context.Context) (c Schedule, err error) {
	err = translate(s.db.WithContext(ctx).First(&c, 1).Error)
	if err == ErrNotFound {
		return Schedule{ID: 1}, nil
	}
	return c, err
}

// SetSchedule says when rounds are made.
func (s *Store) SetSchedule(ctx context.Context, c Schedule) error {
	c.ID = 1
	return s.db.WithContext(ctx).Save(&c).Error
}

// ThinRounds forgets the reports of all but the newest rounds, whose outcome alone stays.
func (s *Store) ThinRounds(ctx context.Context, keep int) error {
	return s.db.WithContext(ctx).Where("round > 0 AND round NOT IN (SELECT id FROM rounds ORDER BY id DESC LIMIT ?)",
		keep).Delete(&ProbeReport{}).Error
}

// ThinHandedIn forgets all but the newest reports that somebody handed in.
func (s *Store) ThinHandedIn(ctx context.Context, keep int) error {
	return s.db.WithContext(ctx).Where("handed AND id NOT IN (SELECT id FROM probe_reports WHERE handed ORDER BY id DESC LIMIT ?)",
		keep).Delete(&ProbeReport{}).Error
}

// ShortenRounds forgets rounds and reports from before a time, but for the newest round.
func (s *Store) ShortenRounds(ctx context.Context, before time.Time) error {
	db := s.db.WithContext(ctx)
	if err := db.Where("at < ? AND id < (SELECT max(id) FROM rounds)", before).Delete(&Round{}).Error; err != nil {
		return err
	}
	if err := db.Where("until < ?", before).Delete(&PastSession{}).Error; err != nil {
		return err
	}
	return db.Where("at < ? AND (round = 0 OR round NOT IN (SELECT id FROM rounds))", before).Delete(&ProbeReport{}).Error
}

// Outside is what a mirror elsewhere saw of the gateway last. There is at most one.
type Outside struct {
	ID   uint   `gorm:"primaryKey"` // always 1
	Seen []byte // as JSON
}

// KeepSeen keeps what a mirror saw, in place of what was seen before.
func (s *Store) KeepSeen(ctx context.Context, e *seen.Evidence) error {
	b, err := json.Marshal(e)
	if err != nil {
		return err
	}
	defer s.outside.Add(1)
	return s.db.WithContext(ctx).Save(&Outside{ID: 1, Seen: b}).Error
}

// SeenFromOutside is what a mirror saw last; nil: none was asked.
func (s *Store) SeenFromOutside(ctx context.Context) (*seen.Evidence, error) {
	var o Outside
	err := translate(s.db.WithContext(ctx).First(&o).Error)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var e seen.Evidence
	return &e, json.Unmarshal(o.Seen, &e)
}

// OutsideVersion counts what mirrors told since the store was opened.
func (s *Store) OutsideVersion() uint64 { return s.outside.Load() }
