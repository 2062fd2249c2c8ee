package jobs

import (
	"time"

	"revlet/internal/archives/catalog"
	"revlet/internal/site/check"
	"revlet/internal/work/compare"
	"revlet/internal/work/rehearse"
)

// Event is something that a person should hear of before a job is done. The types
// of this file are all there are.
type Event interface{ event() }

type (
	// Warning is what went wrong and fails nothing: an error, or a text.
	Warning struct {
		Err  error
		Text string
	}
	// HistoryLost: the history was damaged and is begun anew.
	HistoryLost struct {
		Fault    error
		SetAside string
	}
	// Recovered: a restore that had stopped half-way was brought to an end. Left are folders in
	// which something is left that belongs to another account.
	Recovered struct {
		Site, Archive, Did string
		Left               []string
	}
	// CutoverDied: the end of a cutover has died half-way; the site is closed.
	CutoverDied struct {
		Site, To string
		Step     FinishStep
	}
	// StoreSilent: a store does not answer; the job goes on without it.
	StoreSilent struct {
		Store string
		Err   error
	}
	// PassedOver: an archive is newer than the one that was chosen for a site's name.
	PassedOver struct{ Archive, Why string }
	// SettingsFromArchive: the live settings cannot be read, those in the archive
	// are used.
	SettingsFromArchive struct{}
	// SiteDescribed: a site was written into the configuration.
	// Added is the text.
	SiteDescribed struct{ Site, Path, Added string }
	// SeveralSites: an installation holds more sites than the one adopted.
	SeveralSites struct {
		Root     string
		Settings []string
	}
	// SignerTaken: archives of a site that were signed by a key are taken from now on.
	SignerTaken struct {
		Site string
		Signer
	}
	// HostTrusted: the key of an SSH machine is accepted from now on.
	HostTrusted struct{ Host, Fingerprint string }

	// ArchiveTaken, CopiesVerified and Rehearsed: a duty has done its work.
	ArchiveTaken   struct{ *Delivered }
	CopiesVerified struct {
		Site   string
		Copies int
	}
	Rehearsed struct {
		*catalog.Held
		*rehearse.Result
	}
	// DutyFailed: a duty could not be carried out.
	DutyFailed struct {
		Site, Duty string
		Err        error
	}
	// MessageUnsent: a message waits to be sent again.
	MessageUnsent struct {
		Title, Channel string
		Err            error
	}

	// GuardSaved: the archive before a guarded command is taken, and the command
	// begins.
	GuardSaved struct {
		*Delivered
		Command []string
	}
	// GuardStopped: the guarded command took longer than it may.
	GuardStopped struct{ Limit time.Duration }
	// GuardAnswers are what the site answered.
	GuardAnswers struct{ Answers []check.Result }
	// GuardBroken: the command broke the site; it is put back. Report is what the
	// command has changed, Err why that cannot be told.
	GuardBroken  struct{ Archive string }
	GuardChanges struct {
		*catalog.Held
		Report *compare.Report
		Err    error
	}
)

func (Warning) event()             {}
func (HistoryLost) event()         {}
func (Recovered) event()           {}
func (CutoverDied) event()         {}
func (StoreSilent) event()         {}
func (PassedOver) event()          {}
func (SettingsFromArchive) event() {}
func (SiteDescribed) event()       {}
func (SeveralSites) event()        {}
func (SignerTaken) event()         {}
func (HostTrusted) event()         {}
func (ArchiveTaken) event()        {}
func (CopiesVerified) event()      {}
func (Rehearsed) event()           {}
func (DutyFailed) event()          {}
func (MessageUnsent) event()       {}
func (GuardSaved) event()          {}
func (GuardStopped) event()        {}
func (GuardAnswers) event()        {}
func (GuardBroken) event()         {}
func (GuardChanges) event()        {}
