package reads

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatIsKnownOfCommands(t *testing.T) {
	s := Builtin()
	for line, want := range map[string]Verdict{
		// What was tried and called a look.
		"systemctl restart nginx":             Alters,
		"find / -delete":                      Alters,
		"docker rm -f x":                      Elsewhere,
		"kubectl delete pod x":                Elsewhere,
		"curl -X POST http://a":               Elsewhere,
		"rm -rf /":                            Unknown,
		"sh -c date":                          Unknown,
		"systemctl status nginx --no-pager":   Reads,
		"systemctl --no-pager is-active a b":  Reads,
		"systemctl show -p MainPID nginx":     Reads,
		"systemctl show --property=Id nginx":  Reads,
		"systemctl list-timers --all":         Reads,
		"systemctl status restart":            Reads, // a unit of that name
		"systemctl -H other status nginx":     Alters,
		"systemctl":                           Reads,
		"find /var -name *.log -mtime +3":     Reads,
		"find /var -fprint /etc/passwd":       Alters,
		"find . -execdir rm {} ;":             Alters,
		"sort -n x":                           Reads,
		"sort -no x":                          Alters,
		"sort --outp=x y":                     Alters,
		"sort --o x":                          Alters,
		"uniq a b":                            Alters,
		"date +%s":                            Reads,
		"date -u +%FT%T":                      Reads,
		"date -s 2020-01-01":                  Alters,
		"date 010100002020":                   Alters,
		"hostname -f":                         Reads,
		"hostname other":                      Alters,
		"df -P /":                             Reads,
		"/usr/bin/df -P /":                    Reads,
		"/tmp/df -P /":                        Unknown,
		"./df":                                Unknown,
		"journalctl -u nginx -n 20":           Reads,
		"journalctl -unginx -n20":             Reads,
		"journalctl --vacuum-size=1M":         Alters,
		"journalctl --rotate":                 Alters,
		"journalctl -u --rotate":              Alters,
		"dmesg -C":                            Alters,
		"dmesg -Tx":                           Reads,
		"openssl x509 -in c.pem -noout -text": Reads,
		"openssl x509 -in c.pem -out d.pem":   Alters,
		"openssl genrsa":                      Alters,
		"ip addr show dev eth0":               Reads,
		"ip link set eth0 down":               Alters,
		"ip -j route show":                    Reads,
		"ss -tlnp":                            Reads,
		"ss -tK dst 1.2.3.4":                  Alters,
		"curl -fsS -m 5 http://127.0.0.1/":    Reads,
		"curl http://a http://b":              Elsewhere,
		"curl -o /etc/x http://a":             Elsewhere,
		"curl -fsSo /etc/x http://a":          Elsewhere,
		"curl file:///etc/passwd":             Elsewhere,
		"redis-cli -h a INFO memory":          Reads,
		"redis-cli FLUSHALL":                  Elsewhere,
		"redis-cli info":                      Reads,
		"kubectl get pods -A -o json":         Reads,
		"kubectl exec x -- rm y":              Elsewhere,
		"psql -l":                             Reads,
		"psql -c drop":                        Elsewhere,
		"berthq depth":                        Unknown,
		"find " + Hole:                        Reads, // asked again when it is filled
		"systemctl status " + Hole:            Reads,
		"systemctl " + Hole + " nginx":        Alters,
		"find -" + Hole:                       Alters,
		Hole + " x":                           Unknown,
		"journalctl -u " + Hole:               Reads,
	} {
		got, why := s.Command(strings.Fields(line), nil)
		assert.Equal(t, want, got, line)
		assert.Equal(t, want == Reads, why == "", line)
	}
	v, why := s.Command([]string{"df"}, []string{"LC_ALL", "TZ"})
	assert.Equal(t, Reads, v, why)
	v, _ = s.Command([]string{"ls"}, []string{"LD_PRELOAD"})
	assert.Equal(t, Unknown, v)
	v, _ = s.Command([]string{"journalctl"}, []string{"PAGER"})
	assert.Equal(t, Unknown, v)
	v, _ = s.Command(nil, nil)
	assert.Equal(t, Unknown, v)
}

func TestFormsOfOnesOwn(t *testing.T) {
	s := Builtin().Clone()
	for _, line := range []string{"berthq: depth -q= **", "gatectl: (counts|state) *", "own^: any", "tool: --from= x +* *"} {
		require.NoError(t, s.Add(line))
	}
	for line, want := range map[string]Verdict{
		"berthq depth -q north":   Reads,
		"berthq depth north east": Reads,
		"berthq park m-7":         Alters,
		"berthq depth --force":    Alters,
		"gatectl counts gate-2":   Reads,
		"gatectl counts":          Alters,
		"gatectl open gate-2":     Alters,
		"own whatever -x":         Reads,
		"tool x +1 y --from=z":    Reads,
		"tool x 1 y":              Alters,
	} {
		got, _ := s.Command(strings.Fields(line), nil)
		assert.Equal(t, want, got, line)
	}
	got, _ := Builtin().Command([]string{"berthq", "depth"}, nil)
	assert.Equal(t, Unknown, got, "a clone is a set of its own")
	for line, says := range map[string]string{
		"berthq":       "a form is PROGRAM: and its words",
		"berth q: any": `"berth q" is no name of a program`,
		"/bin/x: any":  `"/bin/x" is no name of a program`,
		"x: any!":      "any is any word, any! any but the options after it",
		"x: any -x":    "any is any word, any! any but the options after it",
		"x: any! rm":   `"rm" is no option`,
		"x: ** y":      "nothing stands after **",
		"x: a;b":       `"a;b" is no word of a form`,
		"x: y**":       `"y**" is no word of a form`,
	} {
		assert.EqualError(t, s.Add(line), says, line)
	}
}

func TestScriptsAreKnownByTheirWholeText(t *testing.T) {
	s := Builtin().Clone()
	s.AddScript(Digest("df -P /\n"))
	assert.True(t, s.Script("df -P /", []string{"MOUNT"}))
	assert.False(t, s.Script("df -P /", []string{"MOUNT", "LD_PRELOAD"}))
	assert.False(t, s.Script("df -P / ; rm x", nil))
	assert.False(t, s.Script("", nil))
}
