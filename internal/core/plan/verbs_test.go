package plan_test

import _ "stilltide/internal/verbs" // registers the verbs
