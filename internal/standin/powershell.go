package main

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
)

// question is what of a disk can be asked: MSFT_Disk, as its maker documents it.
var question = regexp.MustCompile(`^\(Get-Disk -Number (\d+)\)\.(SerialNumber\.Trim\(\)|Size|IsBoot|IsSystem)$`)

// powershell answers a question about a disk: powershell -NoProfile -Command QUESTION.
func powershell(args []string) error {
	if len(args) != 3 || args[0] != "-NoProfile" || args[1] != "-Command" {
		return fmt.Errorf("expected -NoProfile -Command QUESTION, not %q", args)
	}
	asked := question.FindStringSubmatch(args[2])
	if asked == nil {
		return errors.New("the question is not known")
	}
	n, err := strconv.Atoi(asked[1])
	if err != nil {
		return err
	}
	s, err := load(n)
	if err != nil {
		return err
	}
	switch asked[2] {
	case "IsBoot", "IsSystem":
		fmt.Println(map[bool]string{true: "True", false: "False"}[s.Runs])
	case "Size":
		fmt.Println(s.Disk.Sectors * 512)
	default:
		fmt.Println(s.Serial)
	}
	return nil
}
