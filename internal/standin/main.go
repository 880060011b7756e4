// Command standin stands in for the tools of Windows' recovery environment where
// there is none: it is named diskpart, bcdboot, bootsect, manage-bde, findstr or powershell, and works on disks
// that are declared in files, so that rendered batch files can be run as they
// stand. What the tools print and refuse follows their maker's documentation, from
// memory.
package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"latchkey/internal/diskmaker"
)

func main() {
	name := strings.TrimSuffix(strings.ToLower(filepath.Base(os.Args[0])), ".exe")
	run, known := map[string]func([]string) error{"diskpart": diskpart, "bcdboot": bcdboot, "bootsect": bootsect, "findstr": findstr,
		"manage-bde": manageBDE,
		"powershell": powershell}[name]
	err := fmt.Errorf("%s is no tool that is stood in for", name)
	if known {
		err = run(os.Args[1:])
	}
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
}

// world is the folder with the disks' declarations and the letters' folders.
func world(names ...string) string {
	return filepath.Join(append([]string{os.Getenv("STANDIN")}, names...)...)
}

// State is a disk with the letters that its partitions have.
type State struct {
	Disk    diskmaker.Disk
	Letters map[string]int // to the partition's index
	Serial  string         // the drive's serial number
	Runs    bool           // the running Windows starts and runs from it
	Zeroed  bool           // every sector was overwritten
	Offline bool
}

func load(number int) (*State, error) {
	raw, err := os.ReadFile(world(fmt.Sprintf("disk%d.json", number)))
	if err != nil {
		return nil, fmt.Errorf("the disk you specified is not valid: %w", err)
	}
	s := &State{}
	if err := json.Unmarshal(raw, s); err != nil {
		return nil, err
	}
	if s.Letters == nil {
		s.Letters = map[string]int{}
	}
	s.Disk, err = s.Disk.Placed()
	return s, err
}

func (s *State) store(number int) error {
	raw, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return os.WriteFile(world(fmt.Sprintf("disk%d.json", number)), raw, 0o600)
}

// lettered finds the disk and partition that a letter stands for.
func lettered(letter string) (number int, s *State, i int, err error) {
	letter = strings.ToUpper(strings.TrimRight(letter, `:\`))
	for number := range 16 {
		s, err := load(number)
		if err != nil {
			continue
		}
		if i, ok := s.Letters[letter]; ok {
			return number, s, i, nil
		}
	}
	return 0, nil, 0, fmt.Errorf("there is no volume %s", letter)
}
