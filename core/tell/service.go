package tell

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"urgentis/core/alert"
)

// The states of a service, the worst first.
const (
	ServiceBad     = "bad"     // an incident is open
	ServiceMissed  = "missed"  // none is, and an objective is missed
	ServiceUnknown = "unknown" // nothing tells
	ServiceGood    = "good"
)

// OpenIncident is an open incident of a service.
type OpenIncident struct {
	Number          int64
	Title, Severity string
	At              time.Time
}

// ServiceFacts is what tells how a service stands: its open incidents, and its objectives by their titles.
type ServiceFacts struct {
	Open                []OpenIncident
	Missed, Blind, Kept []string
}

// ServiceStanding is how a service stands.
type ServiceStanding struct {
	State, Says string
	Below       []string
	Since       time.Time // since when it is bad; zero where it is not
}

// StandingOfService tells how a service stands. What nothing measures is not good.
func StandingOfService(f ServiceFacts) ServiceStanding {
	var out ServiceStanding
	switch {
	case len(f.Open) > 0:
		worst := slices.MinFunc(f.Open, func(a, b OpenIncident) int {
			return cmp.Or(alert.Worth(b.Severity)-alert.Worth(a.Severity), a.At.Compare(b.At))
		})
		out = ServiceStanding{State: ServiceBad, Says: "Bad now: " + worst.Title, Since: worst.At}
	case len(f.Missed) > 0:
		out = ServiceStanding{State: ServiceMissed, Says: "Objective missed: " + f.Missed[0]}
		f.Missed = f.Missed[1:]
	case len(f.Blind) > 0:
		out = ServiceStanding{State: ServiceUnknown, Says: "Not known: nothing was measured for “" + f.Blind[0] + "”"}
		f.Blind = f.Blind[1:]
	case len(f.Kept) == 0:
		return ServiceStanding{State: ServiceUnknown, Says: "No incident is open",
			Below: []string{"No objective measures it: whether it is well is not known."}}
	case len(f.Kept) == 1:
		return ServiceStanding{State: ServiceGood, Says: "Good: “" + f.Kept[0] + "” is kept"}
	default:
		return ServiceStanding{State: ServiceGood, Says: fmt.Sprintf("Good: all %d objectives are kept", len(f.Kept))}
	}
	for _, title := range f.Missed {
		out.Below = append(out.Below, "Objective missed: "+title)
	}
	for _, title := range f.Blind {
		out.Below = append(out.Below, "Nothing was measured for “"+title+"”")
	}
	if len(f.Open) == 0 {
		out.Below = append(out.Below, "No incident is open.")
	}
	return out
}
