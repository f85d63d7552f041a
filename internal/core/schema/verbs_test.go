package schema_test

import _ "stilltide/internal/work" // registers the verbs
