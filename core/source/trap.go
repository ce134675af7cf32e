package source

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
)

// TrapType is the Content-Type under which a notification of SNMP is kept: a TrapMessage as JSON, without the
// community.
const TrapType = "application/vnd.urgentis.trap+json"

// TrapMessage is a trap or an inform as its listener understood it.
type TrapMessage struct {
	From    string    `json:"from"`
	Version string    `json:"version"` // 2c or 3
	User    string    `json:"user,omitempty"`
	Inform  bool      `json:"inform,omitempty"`
	OID     string    `json:"oid"`    // snmpTrapOID.0: which notification it is
	Uptime  float64   `json:"uptime"` // of the sender, in seconds
	Vars    []Binding `json:"vars"`
}

// Binding is one variable of a notification. Value is text but of numbers.
type Binding struct {
	OID   string `json:"oid"`
	Type  string `json:"type"`
	Value any    `json:"value"`
}

// wellKnown are objects of standard MIBs that notifications carry, by their OIDs without the index: RFC 3418, RFC 2863,
// RFC 3877.
var wellKnown = map[string]string{
	"sysName":                 "1.3.6.1.2.1.1.5",
	"sysLocation":             "1.3.6.1.2.1.1.6",
	"ifIndex":                 "1.3.6.1.2.1.2.2.1.1",
	"ifDescr":                 "1.3.6.1.2.1.2.2.1.2",
	"ifAdminStatus":           "1.3.6.1.2.1.2.2.1.7",
	"ifOperStatus":            "1.3.6.1.2.1.2.2.1.8",
	"ifAlias":                 "1.3.6.1.2.1.31.1.1.1.18",
	"alarmActiveResourceId":   "1.3.6.1.2.1.118.1.2.2.1.10",
	"alarmActiveModelPointer": "1.3.6.1.2.1.118.1.2.2.1.13",
}

// named gives the well-known objects among variables by their names; of several of a name the first.
func named(vars []any) map[string]any {
	out := map[string]any{}
	for _, v := range vars {
		b := v.(map[string]any)
		for name, oid := range wellKnown {
			if text := b["oid"].(string); out[name] == nil && (text == oid || strings.HasPrefix(text, oid+".")) {
				out[name] = b["value"]
			}
		}
	}
	return out
}

// readTrap gives a notification to expressions: as its JSON, with value, the values by their OIDs, and with named,
// those of objects that every manager knows.
func (p Payload) readTrap() (any, error) {
	if len(p.Body) > MaxBody {
		return nil, fmt.Errorf("the notification has %d bytes, %d are allowed", len(p.Body), MaxBody)
	}
	var m TrapMessage
	dec := json.NewDecoder(bytes.NewReader(p.Body))
	dec.UseNumber()
	if err := dec.Decode(&m); err != nil {
		return nil, fmt.Errorf("the notification is not JSON as docs/sources.md shows it: %s", err)
	}
	vars, values := make([]any, len(m.Vars)), map[string]any{}
	for i, b := range m.Vars {
		oid, v := strings.TrimPrefix(b.OID, "."), numbers(b.Value)
		vars[i] = map[string]any{"oid": oid, "type": b.Type, "value": v}
		values[oid] = v
	}
	return map[string]any{
		"from": m.From, "version": m.Version, "user": m.User, "inform": m.Inform, "oid": strings.TrimPrefix(m.OID, "."),
		"uptime": m.Uptime, "vars": vars, "value": values, "named": named(vars),
	}, nil
}
