package runbook

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/reads"
)

func estate(service string, targets ...EstateTarget) Estate {
	return Estate{Services: []string{service}, Targets: targets}
}

func TestARunbookAgainstTheEstate(t *testing.T) {
	b, found := Parse([]byte(first))
	require.NotNil(t, b, found)
	role := func(r string) map[string]string { return map[string]string{"role": r, "berth": "north"} }
	for _, c := range []struct {
		what   string
		estate Estate
		want   string
	}{
		{"all is there", estate("berths", EstateTarget{Name: "broker-1", Labels: role("consumer")}), ""},
		{"no such service", Estate{Services: []string{"berth", "fares"}}, "there is no service berths; did you mean berth?"},
		{"no such value", estate("berths",
			EstateTarget{Name: "a", Labels: role("consumers")}, EstateTarget{Name: "b", Labels: role("broker")}),
			"no target of the service berths has role: consumer; there are consumers, broker; did you mean consumers?"},
		{"no such label", estate("berths", EstateTarget{Name: "a"}), "no target of the service berths " +
			"has a label role"},
		{"no targets", estate("berths"), "no target of the service berths has a label role"},
	} {
		found := b.Against(c.estate)
		if c.want == "" {
			assert.Empty(t, found, c.what)
			continue
		}
		require.NotEmpty(t, found, c.what)
		assert.Equal(t, c.want, found[0].Sentence(), c.what)
		assert.True(t, found[0].Warning)
		assert.NotEqual(t, 1, found[0].Line, c.what)
	}
}

// What is not known to only read is told of: with where it is not taken, as far as the targets are known.
func TestLooksThatNobodyKnowsToRead(t *testing.T) {
	const head = "urgentis: runbook/1\nname: x\ntitle: X\nowner: o\nservice: s\nsteps:\n  - look: X\n    where: {role: web}\n    "
	const end = "\n  - close: false-alarm\n    because: x\n"
	may, cannot := EstateTarget{Name: "web-1"}, EstateTarget{Name: "web-2", CannotWrite: true}
	for _, c := range []struct {
		does    string
		targets []EstateTarget
		says    string // "" where it is taken everywhere
		warning bool
	}{
		{"run: [df, -P]", nil, "", false},
		{"run: [systemctl, status, \"{{ run.id }}\"]", nil, "", false},
		{"run: [systemctl, restart, nginx]", nil, "systemctl with these words is not known to only read; a look only reads: " +
			"make it a change", false},
		{"run: [systemctl, restart, nginx]", []EstateTarget{may}, "no target of the service has an account", false},
		{"run: [find, /, -delete]", nil, "find with these words", false},
		{"run: [docker, rm, -f, x]", []EstateTarget{cannot}, "it acts on other hosts", false},
		{"run: [curl, -X, POST, 'http://a']", nil, "it acts on other hosts", false},
		{"script: rm -rf /var/www", nil, "nothing is known of this script (sha256:", true},
		{"script: rm -rf /var/www", []EstateTarget{may}, "a look only reads, and no target", false},
		{"script: rm -rf /var/www", []EstateTarget{may, cannot}, "it is missing evidence on web-1", true},
		{"script: rm -rf /var/www", []EstateTarget{cannot}, "", false},
		{"script: rm -rf /var/www\n    only_reads: it is a try", nil, "", false},
		{"run: [berthq, depth]", []EstateTarget{}, "nothing is known of berthq: it is taken only where", true},
		{"run: [berthq, depth]\n    env: {LD_PRELOAD: x}", []EstateTarget{may}, "nothing is known of berthq", false},
		{"run: [berthq, depth]\n    as: root", []EstateTarget{cannot}, "as root, by way of sudo", false},
		{"run: [df]\n    as: root", []EstateTarget{may}, "", false},
		{"run: [df]\n    env: {LD_PRELOAD: x}", []EstateTarget{may}, "df with LD_PRELOAD set", false},
	} {
		b, found := Parse([]byte(head + c.does + end))
		require.NotNil(t, b, "%s: %s", c.does, found)
		got := b.Looks(reads.Builtin(), c.targets)
		if c.says == "" {
			assert.Empty(t, got, c.does)
			continue
		}
		require.Len(t, got, 1, c.does)
		assert.Contains(t, got[0].Message, c.says, c.does)
		assert.Equal(t, c.warning, got[0].Warning, c.does)
	}
}
