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

	"latchkey/internal/diskmaker"
)

//go:embed marker/*.asm
var markerSources embed.FS

// Marker is a program that tells that it was started, and ends the machine.
type Marker string

// The markers, by what runs them.
const (
	MarkX64    Marker = "efi64"
	MarkNext   Marker = "efi64-next" // the same, but it leaves the machine to the firmware's next option
	MarkIA32   Marker = "efi32"
	StartEvery Marker = "every64" // starts the markers of all volumes, one after the other
	MarkSector Marker = "sector"
)

const tagLength = 64

// assemble builds the markers from source, once.
var assemble = sync.OnceValues(func() (map[Marker][]byte, error) {
	dir, err := os.MkdirTemp("", "marker")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	built := map[Marker][]byte{}
	for _, m := range []Marker{MarkX64, MarkNext, StartEvery, MarkIA32, MarkSector} {
		name, next := strings.CutSuffix(string(m), "-next")
		source, err := markerSources.ReadFile("marker/" + name + ".asm")
		if err != nil {
			return nil, err
		}
		in, out := filepath.Join(dir, string(m)+".asm"), filepath.Join(dir, string(m)+".bin")
		if err := os.WriteFile(in, source, 0o600); err != nil {
			return nil, err
		}
		args := []string{"-f", "bin", "-o", out, in}
		if next {
			args = append(args, "-DNEXT")
		}
		if msg, err := exec.Command("nasm", args...).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("assembling %s: %w: %s", m, err, msg)
		}
		if built[m], err = os.ReadFile(out); err != nil {
			return nil, err
		}
	}
	return built, nil
})

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
	if m == MarkIA32 {
		p.Machine = 0x014C
	}
	return p
}
