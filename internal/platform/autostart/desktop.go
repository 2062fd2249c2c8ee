package autostart

import (
	"encoding/xml"
	"fmt"
	"strings"
)

// launchdLabel names the job among those of an account.
const launchdLabel = "revlet"

// Launchd is a job of macOS (launchd.plist(5)) that runs a command every few minutes. What
// was missed while the machine slept is made up for when it wakes.
type Launchd struct {
	// File is where it belongs, below the account's home folder.
	File, Text string
}

// NewLaunchd returns the job for a command.
func NewLaunchd(command []string) Launchd {
	var words strings.Builder
	for _, w := range command {
		fmt.Fprintf(&words, "\t\t<string>%s</string>\n", escapeXML(w))
	}
	return Launchd{File: "Library/LaunchAgents/" + launchdLabel + ".plist", Text: fmt.Sprintf(`<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd">
<plist version="1.0">
<dict>
	<key>Label</key>
	<string>%s</string>
	<key>ProgramArguments</key>
	<array>
%s	</array>
	<key>StartInterval</key>
	<integer>%d</integer>
	<key>ProcessType</key>
	<string>Background</string>
	<key>LowPriorityIO</key>
	<true/>
	<key>Umask</key>
	<integer>63</integer>
</dict>
</plist>
`, launchdLabel, words.String(), CronMinutes*60)}
}

// Task is one for the Windows task scheduler ([MS-TSCH], schema version 1.2) that runs a
// command every few minutes while its account is logged on, never twice at a time, and at
// once when a time was missed.
type Task struct{ Text string }

// NewTask returns the task for a command.
func NewTask(command []string) Task {
	return Task{fmt.Sprintf(`<?xml version="1.0"?>
<Task version="1.2" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task">
  <Triggers>
    <TimeTrigger>
      <StartBoundary>2026-01-01T00:00:00</StartBoundary>
      <Repetition><Interval>PT%dM</Interval></Repetition>
    </TimeTrigger>
  </Triggers>
  <Settings>
    <MultipleInstancesPolicy>IgnoreNew</MultipleInstancesPolicy>
    <StartWhenAvailable>true</StartWhenAvailable>
    <DisallowStartIfOnBatteries>false</DisallowStartIfOnBatteries>
    <StopIfGoingOnBatteries>false</StopIfGoingOnBatteries>
    <ExecutionTimeLimit>PT0S</ExecutionTimeLimit>
    <Priority>8</Priority>
  </Settings>
  <Actions>
    <Exec>
      <Command>%s</Command>
      <Arguments>%s</Arguments>
    </Exec>
  </Actions>
</Task>
`, CronMinutes, escapeXML(command[0]), escapeXML(windowsQuote(command[1:]...)))}
}

func escapeXML(s string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(s)) // a strings.Builder has no errors
	return b.String()
}

// windowsQuote quotes words so that programs of Windows take them apart again as they were
// (Parsing C Command-Line Arguments, learn.microsoft.com).
func windowsQuote(words ...string) string {
	quoted := make([]string, len(words))
	for i, w := range words {
		if w != "" && !strings.ContainsAny(w, " \t\"") {
			quoted[i] = w
			continue
		}
		var b strings.Builder
		b.WriteByte('"')
		slashes := 0
		for _, c := range []byte(w) {
			switch c {
			case '\\':
				slashes++
			case '"':
				b.WriteString(strings.Repeat(`\`, slashes+1)) // those before it, twice, and one for itself
				slashes = 0
			default:
				slashes = 0
			}
			b.WriteByte(c)
		}
		quoted[i] = b.String() + strings.Repeat(`\`, slashes) + `"`
	}
	return strings.Join(quoted, " ")
}
