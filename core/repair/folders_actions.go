package repair

import (
	"strings"

	"latchkey/core/command"
	"latchkey/core/course"
	"latchkey/core/machine"
)

// makeFolders makes the empty folders of a root on which the kernel's own file systems are mounted: a copy of
// files has left them out with what was in them.
func makeFolders(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	n, ok := systemOn(m, d, -1)
	if !ok || n.NoRoot || n.Within != nil {
		return nil
	}
	lacks := d.Contents.LacksFolders(n.Root)
	if len(lacks) == 0 {
		return nil
	}
	return []move{onDisk(m, PlanStep{Action: "make-folders", Title: "Make the empty folders " + strings.Join(lacks, ", ") + " on the root",
		Why:  "The kernel's own file systems are mounted there, and the copy left the folders out.",
		Risk: RiskLow, Minutes: 5, Undo: "Remove the empty folders: rmdir."}, "make-folders", d.Contents.WithFolders(n.Root, lacks),
		map[Toolbox]func() []Command{Linux: func() []Command {
			return onRoot(d, n, func(command.Word) (nodes []command.Node) {
				for _, name := range lacks { // mkdir makes nothing where a link stands
					nodes = append(nodes, command.Run("mkdir", "-m", "0755", mountedClone+name))
				}
				return nodes
			})
		}})}
}
