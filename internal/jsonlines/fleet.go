package jsonlines

import "time"

// Helper is a machine that runs commands of a pool, and what it does.
type Helper struct {
	Pool    string    `json:"pool" jsonschema:"the pool that it works for"`
	Helper  string    `json:"helper" jsonschema:"its name; empty in the line of a pool that has none"`
	Workers int       `json:"workers" jsonschema:"how many commands it runs at once"`
	Busy    int       `json:"busy" jsonschema:"how many it runs now"`
	Jobs    []int64   `json:"jobs" jsonschema:"the jobs of this watcher that it runs"`
	Version string    `json:"version" jsonschema:"its program's version"`
	SeenAt  time.Time `json:"seen_at" jsonschema:"when it was last heard"`
}
