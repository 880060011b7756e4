// Package truth starts generated disks in real firmware and holds the
// simulation against what happened.
package truth

import (
	"bytes"
	"embed"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"

	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/internal/diskmaker"
)

//go:embed marker/*.asm marker/*.s
var markerSources embed.FS

// Marker is a program that tells that it was started, and ends the machine.
type Marker string

// The markers, by what runs them.
const (
	MarkX64    Marker = "efi64"
	MarkNext   Marker = "efi64-next" // the same, but it leaves the machine to the firmware's next option
	MarkIA32   Marker = "efi32"
	MarkARM64  Marker = "efiaa64"
	StartEvery Marker = "every64" // starts the markers of all volumes, one after the other
	MarkSector Marker = "sector"
)

const tagLength = 64

// armAssembler is that of GNU for arm64.
const armAssembler = "aarch64-linux-gnu-as"

// assemble builds the markers from source, once.
var assemble = sync.OnceValues(func() (map[Marker][]byte, error) {
	dir, err := os.MkdirTemp("", "marker")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	built := map[Marker][]byte{}
	for _, m := range []Marker{MarkX64, MarkNext, StartEvery, MarkIA32, MarkARM64, MarkSector} {
		if built[m], err = m.assembled(dir); err != nil {
			return nil, fmt.Errorf("assembling %s: %w", m, err)
		}
	}
	return built, nil
})

// assembled builds a marker in a folder.
func (m Marker) assembled(dir string) ([]byte, error) {
	name, next := strings.CutSuffix(string(m), "-next")
	name += ".asm"
	if m == MarkARM64 {
		name = string(m) + ".s"
	}
	source, err := markerSources.ReadFile("marker/" + name)
	if err != nil {
		return nil, err
	}
	in, out := filepath.Join(dir, name), filepath.Join(dir, string(m)+".bin")
	if err := os.WriteFile(in, source, 0o600); err != nil {
		return nil, err
	}
	commands := [][]string{{"nasm", "-f", "bin", "-o", out, in}}
	switch {
	case m == MarkARM64:
		commands = [][]string{{armAssembler, "-o", out + ".o", in}, {"aarch64-linux-gnu-objcopy", "-O", "binary", "-j", ".text", out + ".o", out}}
	case next:
		commands[0] = append(commands[0], "-DNEXT")
	}
	for _, c := range commands {
		if msg, err := exec.Command(c[0], c[1:]...).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("%s: %w: %s", c[0], err, msg)
		}
	}
	return os.ReadFile(out)
}

// markerFor is the marker that a program's path asks for, by the architecture in its name.
func markerFor(path string) Marker {
	switch path = strings.ToLower(path); {
	case strings.HasSuffix(path, loader.Suffix(firmware.IA32)):
		return MarkIA32
	case strings.HasSuffix(path, loader.Suffix(firmware.ARM64)):
		return MarkARM64
	}
	return MarkX64
}

// Code returns a marker's code with what it is to say of itself.
func (m Marker) Code(tag string) []byte {
	built, err := assemble()
	if err != nil {
		panic(err) // Ready was not asked
	}
	code := bytes.Clone(built[m])
	at := bytes.Index(code, bytes.Repeat([]byte("@"), tagLength))
	if at < 0 {
		return code
	}
	copy(code[at:], append([]byte(tag), bytes.Repeat([]byte(" "), tagLength-len(tag))...))
	return code
}

// Program returns an EFI program that says tag.
func (m Marker) Program(tag string) diskmaker.Program {
	p := diskmaker.Program{Code: m.Code(tag)}
	switch m {
	case MarkIA32:
		p.Machine = 0x014C
	case MarkARM64:
		p.Machine = 0xAA64
	}
	return p
}
