package flow

// Hindrance is what jobs wait for that is not their files' fault.
type Hindrance struct {
	Jobs int    `json:"jobs"`
	Why  string `json:"why"` // of one of them
}

// Hindered reports which jobs wait for room or for a disk.
func (f *Flow) Hindered() map[string]Hindrance {
	all := map[string]Hindrance{}
	for _, j := range f.open {
		if s := j.setback(); s.why != "" && f.running[j.row.ID] == nil {
			all[j.row.Rule] = Hindrance{all[j.row.Rule].Jobs + 1, s.why}
		}
	}
	return all
}
