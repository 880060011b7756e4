package command_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"mvdan.cc/sh/v3/syntax"
	"pgregory.net/rapid"

	"latchkey/core/command"
	"latchkey/internal/reference"
	"latchkey/internal/shellwords"
)

// anything draws values that evidence can hold: any bytes, and what shells act on.
func anything() *rapid.Generator[string] {
	acting := rapid.SampledFrom([]string{"'", `"`, "`", "$(touch pwned)", "${IFS}", "\n", "\r", "\\", ";", "&", "|", ">pwned", "#", "!", "*", "~", "=", "-", "\x1b[2J",
		"\x03", "\t", " ", "\u202e", "\xff", "%PATH%", "%%", "^"})
	return rapid.Map(rapid.SliceOf(rapid.OneOf(acting, rapid.String(),
		rapid.Map(rapid.SliceOf(rapid.Byte()), func(b []byte) string { return string(b) }))),
		func(parts []string) string { return strings.ReplaceAll(strings.Join(parts, ""), "\x00", "") })
}

// Whatever a value holds, an independent parser finds the one command that was
// meant, with the value as one word of it, in the POSIX shell and in bash.
func TestEveryValueIsOneWord(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b, c := anything().Draw(t, "a"), anything().Draw(t, "b"), anything().Draw(t, "c")
		text, err := command.POSIX(command.All(command.Run("one", a, command.Join("x", command.Var("v"), b)).With("held",
			c).To(b), command.Run("two", c)))
		require.NoError(t, err)
		for _, lang := range []syntax.LangVariant{syntax.LangPOSIX, syntax.LangBash} {
			calls, err := shellwords.Calls(text, lang)
			require.NoError(t, err)
			require.Equal(t, [][]string{{">", b}, {"held=" + c, "one", a, "x${v}" + b}, {"two", c}}, calls, text)
		}
	})
}

// The shells themselves hand over the very bytes.
func TestShellsHandOverTheBytes(t *testing.T) {
	reference.Need(t, "dash", "bash")
	var values []string
	for i := range 400 {
		values = append(values, anything().Example(i))
	}
	args := []any{"printf", `%s\0`}
	for _, v := range values {
		args = append(args, v)
	}
	text, err := command.POSIX(command.Run(args...))
	require.NoError(t, err)
	for _, shell := range []string{"dash", "bash"} {
		cmd := exec.Command(shell, "-s")
		cmd.Dir, cmd.Stdin = t.TempDir(), strings.NewReader(text)
		out, err := cmd.Output()
		require.NoError(t, err)
		assert.Equal(t, strings.Join(values, "\x00")+"\x00", string(out), shell)
	}
}

func TestAZeroCannotBeCarried(t *testing.T) {
	_, err := command.POSIX(command.Run("cp", "a\x00b"))
	assert.ErrorContains(t, err, `"a\x00b" cannot be written`)
}

func TestWhatTheShellSees(t *testing.T) {
	for want, n := range map[string]command.Node{
		`dd if="$clone" of=before.bin bs=512`: command.Run("dd", command.Join("if=", command.Var("clone")), "of=before.bin", command.Join("bs=", 512)),
		`mkdir -p '/mnt/a b' && mount "$clone$(echo p)"2 '/mnt/a b'`: command.All(command.Run("mkdir", "-p", "/mnt/a b"),
			command.Run("mount", command.Join(command.Var("clone"), command.Output(command.Run("echo", "p")), 2), "/mnt/a b")),
		`[ -f x ] || { cp x y && cp y z; }`: command.Either(command.Run("[", "-f", "x", "]"),
			command.All(command.Run("cp", "x", "y"), command.Run("cp", "y", "z"))),
		`a | b || c; d`: command.Sequence(command.Either(command.Pipe(command.Run("a"), command.Run("b")),
			command.Run("c")), command.Run("d")),
		`for d in $(lsblk -dn); do a "$d"; done`:   command.Each("d", command.Fields(command.Run("lsblk", "-dn")), command.Run("a", command.Var("d"))),
		`n="$(wc -l <list)"`:                       command.Set("n", command.Output(command.Run("wc", "-l").From("list"))),
		`a '' "$(printf '\033')"'[2J' 2>/dev/null`: command.Run("a", "", "\x1b[2J").Hushed(),
	} {
		got, err := command.POSIX(n)
		assert.NoError(t, err)
		assert.Equal(t, want, got)
	}
}

// The words of a batch file hold nothing that the interpreter acts on; what cannot be
// carried is refused.
func TestWordsOfABatchFile(t *testing.T) {
	for value, want := range map[string]string{
		`S:\EFI\debian\grubx64.efi`: `S:\EFI\debian\grubx64.efi`, `S:\EFI\R&D (old)\x.efi`: `"S:\EFI\R&D (old)\x.efi"`, `S:\a,b=c;d^e`: `"S:\a,b=c;d^e"`,
		"partition=S:": "partition=S:", "0+34": "0+34", "": `""`, "it's": `"it's"`,
	} {
		got, err := command.Batch(command.Run("copy", value))
		assert.NoError(t, err, value)
		assert.Equal(t, "copy "+want, got)
	}
	for _, value := range []string{`S:\100%`, `%PATH%`, `a"b`, `a!b`, "a\nb", "a\x1bb", "größer", "*.efi", "what?", `a b\`, "\x00"} {
		_, err := command.Batch(command.Run("copy", value))
		assert.ErrorContains(t, err, "cannot be written", value)
	}
	_, err := command.Batch(command.Ask(command.Run("diskpart"), command.Text("ask.txt"), []any{"select disk", "1&calc"}))
	assert.ErrorContains(t, err, "cannot be written", "what is said to a tool is never quoted")
}

func TestRemarksAreOneCleanLine(t *testing.T) {
	hostile := "a\nrm -rf /\r\x1b[2J %PATH% & calc \"x\" (y) > z ^ ! é"
	for batch, acting := range map[bool]string{false: "\n\r\x1b", true: "\n\r\x1b%&\"()<>|^!é"} {
		line := command.Comment(hostile, batch)
		assert.NotContains(t, line, "\n")
		assert.False(t, strings.ContainsAny(line, acting), line)
		assert.Contains(t, line, "rm -rf /")
	}
	said, err := command.Batch(command.Say(hostile, command.Var("CLONE")))
	assert.NoError(t, err)
	assert.Equal(t, "echo a rm -rf / [2J PATH + calc 'x' [y] z ? %CLONE%", said)
}

func TestWhereAScriptWouldGoOn(t *testing.T) {
	a, b := command.Run("a"), command.Run("b")
	assert.True(t, command.GoesOn(command.All(a, b)))
	assert.True(t, command.GoesOn(command.Either(a, b)))
	assert.True(t, command.GoesOn(command.Fixed("a && b")))
	assert.False(t, command.GoesOn(command.Fixed("a || true")))
	assert.False(t, command.GoesOn(a))
	assert.False(t, command.GoesOn(command.Sequence(a, b)))
}
