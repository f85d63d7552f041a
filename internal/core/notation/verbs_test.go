package notation_test

import _ "stilltide/internal/verbs" // registers the verbs
