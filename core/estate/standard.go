package estate

import (
	"urgentis/core/doc"
	"urgentis/core/field"
	"urgentis/core/source"
)

// standardMaps are what stands where a source has no map, in the language of maps. What they leave out is unparsed.
var standardMaps = map[string]string{source.Syslog: syslogMap, source.Trap: trapMap}

// withoutMap says how what arrives is read where there is no map.
var withoutMap = map[string]string{
	source.HTTP:   "the source sends our own JSON or CloudEvents",
	source.Mail:   "a mail is not understood",
	source.Syslog: "messages are read by RFC 5674",
	source.Trap:   "notifications are read by RFC 3877 and RFC 2863",
}

// syslogMap reads a message's own severity, or that of an alarm in its structured data, by RFC 5674. What is milder
// than a warning is not an alert.
const syslogMap = `urgentis: source/1
name: standard
takes: syslog
from: [0.0.0.0/0]
map:
  key: '{{ syslog.host }}/{{ has(syslog.data.alarm) ? syslog.data.alarm.resource + "/" + syslog.data.alarm.probableCause
    : syslog.app + "/" + syslog.id }}'
  summary: "{{ syslog.text }}"
  severity:
    of: "has(syslog.data.alarm) ? syslog.data.alarm.perceivedSeverity : syslog.severity"
    as: {emerg: critical, alert: critical, crit: major, err: minor, critical: critical, major: major, minor: minor,
      warning: warning, indeterminate: warning}
  service: "{{ syslog.app }}"
  labels: {host: "{{ syslog.host }}", app: "{{ syslog.app }}", facility: "{{ syslog.facility }}"}
  at: "{{ syslog.at }}"
cleared: 'has(syslog.data.alarm) && syslog.data.alarm.perceivedSeverity == "cleared"'
ignore: '!has(syslog.data.alarm) && syslog.severity in ["notice", "info", "debug"]'
`

// trapMap reads linkDown and linkUp (RFC 2863) and alarmActiveState and alarmClearState (RFC 3877), whose model pointer
// ends with the state: 1 is clear, and 2 to 6 are indeterminate, warning, minor, major and critical (RFC 3877, 5.4).
const trapMap = `urgentis: source/1
name: standard
takes: trap
map:
  key: >-
    {{ trap.from }}/{{ has(trap.named.ifIndex) ? "link/" + string(trap.named.ifIndex) : trap.named.alarmActiveResourceId
    + "/" + trap.named.alarmActiveModelPointer.substring(0, trap.named.alarmActiveModelPointer.lastIndexOf(".")) }}
  summary: >-
    {{ has(trap.named.ifDescr) ? "The link " + trap.named.ifDescr + " is down" : has(trap.named.ifIndex) ? "The link "
    + string(trap.named.ifIndex) + " is down" : "An alarm of " + trap.named.alarmActiveResourceId }}
  severity:
    of: >-
      has(trap.named.alarmActiveModelPointer) ? trap.named.alarmActiveModelPointer.substring(
      trap.named.alarmActiveModelPointer.lastIndexOf(".") + 1) : trap.oid
    as: {"2": warning, "3": warning, "4": minor, "5": major, "6": critical, "1.3.6.1.6.3.1.1.5.3": major}
  labels: {device: "{{ trap.from }}", trap: "{{ trap.oid }}"}
cleared: trap.oid in ["1.3.6.1.6.3.1.1.5.4", "1.3.6.1.2.1.118.0.3"]
`

// standard gives a source the map that stands where it has none.
func (x *decoder) standard(text string, s *source.Source) {
	t := &doc.Text{What: "a document"}
	y := &decoder{Text: t, d: &Document{Kind: Source}}
	y.decode(t.Load([]byte(text)))
	if t.Findings.Failed() {
		panic("the standard map has a mistake: " + t.Findings[0].Sentence()) // it is ours
	}
	m := y.d.Source
	s.Map, s.Labels, s.Cleared, s.Ignore = m.Map, m.Labels, m.Cleared, m.Ignore
	for _, fields := range []map[string]*field.Field{s.Map, s.Labels} {
		for _, f := range fields {
			f.From = "no map: " + withoutMap[s.Takes]
		}
	}
}
