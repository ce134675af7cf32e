import type { Schemas } from '../api/client'

/** The kinds that authors write; all that decides about alerts and people is the admins'. */
export const authored: string[] = ['runbook', 'binding']

/** What a new document of each kind begins with: a sound one, to be altered. */
export const skeletons: Record<Schemas['DocumentKind'], string> = {
  runbook: `urgentis: runbook/1
name: my-runbook
title: What it mends
owner: my-team
service: my-service
steps:
  - note: What was seen
    text: Nothing yet.
  - close: false-alarm
    because: This runbook only takes note.
`,
  binding: `urgentis: binding/1
name: my-disks
library: host-disk-full
service: my-service
owner: my-team
roles: {host: my-role}
inputs: {mount: /var}
`,
  trigger: `urgentis: trigger/1
name: my-trigger
runbook: my-runbook
alert: alert.service == "my-service" && alert.severity in ["critical", "major"]
on: [new, worse]
`,
  source: `urgentis: source/1
name: my-source
proof: [bearer]
map:
  key: "{{ body.where }}/{{ body.what }}"
  severity: {of: body.level, as: {"1": critical, "2": major}, otherwise: warning}
  summary: "{{ body.text }}"
  service: my-service
`,
  calendar: `urgentis: calendar/1
name: my-hours
zone: Europe/Amsterdam
weekly: [mon-fri 07:00-19:00]
`,
  mute: `urgentis: mute/1
name: my-work
when: alert.service == "my-service"
from: 2026-12-01T22:00:00Z
until: 2026-12-02T02:00:00Z
because: The feed is renewed.
`,
  join: `urgentis: join/1
name: my-join
by: [alert.service]
within: 15m
also: [depends_on]
`,
  team: `urgentis: team/1
name: my-team
title: My team
members: [somebody, another]
rota:
  zone: Europe/Lisbon
  first:
    - {from: 2026-01-05 09:00, every: FREQ=WEEKLY;BYDAY=MO, people: [somebody, another]}
`,
  connection: `urgentis: connection/1
name: my-room
kind: room
url: {secret: my_room_address}
body: {text: "{{ message.text }}"}
`,
  route: `urgentis: route/1
name: my-route
when: notice.owner == "my-team"
tell: [room/my-room, on-call/my-team]
`,
  watch: `urgentis: watch/1
name: queue-depth
service: berth-queue
every: 10s
looks:
  - look: Depth of the queue
    where: {role: consumer}
    run: [berthq, depth, --queue, quay-north]
    read:
      depth: {json: .depth, type: integer, unit: messages, good: low}
`,
  objective: `urgentis: objective/1
name: berths-in-time
service: berth-queue
title: Berths are assigned in time
good_when: max(readings.depth) < 400
target: 99.5
window: 28d
`,
  lookback: `urgentis: lookback/1
name: berth-queue-past
service: berth-queue
title: The queue, as the store of metrics has it
before: 1h
looks:
  - look: Depth of the queue
    http: {url: "https://metrics.example/depth?from={{ inputs.from_s }}&until={{ inputs.until_s }}"}
    read:
      depth: {json: '[.points[] | {at: .[0], value: .[1]}]', type: json}
series:
  depth: {of: depth, unit: messages, good: low}
`,
  device: `urgentis: device/1
name: quay-switch
title: Switches of the quays
ready: '[a-z0-9-]+>'
before: ['terminal length 0']
refused: '^% '
reads: ['show **']
`,
  reader: `urgentis: reader/1
name: harbour
programs:
  berthq: ['depth --queue= **', 'list']
`,
}
