package course

// Stage is one of the eight stages of a start.
type Stage string

// The stages, in the order in which a start passes them.
const (
	StageDrive         Stage = "drive"
	StageMode          Stage = "mode"
	StageOrder         Stage = "order"
	StageTable         Stage = "table"
	StageBootPartition Stage = "boot-partition"
	StageLoader        Stage = "loader"
	StageConfiguration Stage = "configuration"
	StageSystem        Stage = "system"
)

// Stages lists all stages in order.
var Stages = []Stage{StageDrive, StageMode, StageOrder, StageTable, StageBootPartition, StageLoader,
	StageConfiguration, StageSystem}

// Title returns the stage's name as the screens show it.
func (s Stage) Title() string {
	return map[Stage]string{
		StageDrive: "Drive", StageMode: "Mode", StageOrder: "Order", StageTable: "Table", StageBootPartition: "Boot partition",
		StageLoader: "Loader", StageConfiguration: "Configuration", StageSystem: "System",
	}[s]
}

// Before reports whether a start passes the stage before another one.
func (s Stage) Before(t Stage) bool { return s.Index() < t.Index() }

// Index returns the place of a stage in the order of a start, from 0.
func (s Stage) Index() int {
	for i, t := range Stages {
		if s == t {
			return i
		}
	}
	return len(Stages)
}
