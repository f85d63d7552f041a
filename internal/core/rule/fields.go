package rule

import (
	"reflect"
	"sync"
)

// FieldsOf maps the keys of a struct to its fields, embedded structs included.
func FieldsOf(t reflect.Type) map[string][]int {
	if known, ok := fieldCache.Load(t); ok {
		return known.(map[string][]int)
	}
	fields := map[string][]int{}
	for _, f := range reflect.VisibleFields(t) {
		if key := f.Tag.Get("key"); key != "" {
			fields[key] = f.Index
		}
	}
	fieldCache.Store(t, fields)
	return fields
}

// fieldCache keeps what fieldsOf found, by type.
var fieldCache sync.Map
