package main

// script runs one of the scripts that drive the built program.
func script(name string) []string {
	return []string{"-run", "^TestScripts$/^" + name + "$", "./cmd/stilltide"}
}

// unit runs tests of one package.
func unit(pkg, tests string) []string { return []string{"-run", tests, "./internal/" + pkg} }

// soon is unit for a test that would wait for ever.
func soon(pkg, tests string) []string {
	return append([]string{"-timeout", "30s"}, unit(pkg, tests)...)
}

// ended runs the tests that end the program at each call that changes files.
func ended(kind string) []string {
	return []string{"-run", "^TestEndedByForceAtEachCall$/^" + kind + "$", "./cmd/stilltide"}
}

// simulation runs the simulation, and nothing else.
var simulation = []string{"-run", "^TestSimulation$", "./internal/engine"}

// faults are the mendings of what once lost files, did something twice or said what was not
// so, each taken out again.
var faults = []Fault{
	// Where the input already is.
	{"the same entry is no placement", "internal/place/same.go",
		"\tcase name == filepath.Base(r.Source):\n\t\treturn here, nil\n", "",
		unit("place", "TestTheSamePlaceIsNoPlacement")},
	{"a second spelling of a name is no other file", "internal/place/same.go",
		"\tcase there.Ino == r.Expect.Ino && there.Dev == r.Expect.Dev:\n\t\treturn alias, nil\n", "",
		unit("place", "TestWithoutCase|TestTheSamePlace|HardLink")},
	{"a duplicate gets its hidden name before the file that stays is compared", "internal/place/same.go",
		"\tis, err := p.isDuplicate(r, d, c, hidden)\n", "\tis, err := apart, error(nil)\n", unit("place", ".")},
	{"content that another job relies on stays", "internal/work/takeback.go",
		"\t\tif other.After.Ino == p.After.Ino {\n", "\t\tif false {\n", script("relies")},
	{"a move never replaces", "internal/held/system_linux.go", "unix.RENAME_NOREPLACE)", "0)", unit("place", ".")},

	// Who takes a file.
	{"a folder rule leaves files to the others", "internal/core/take/take.go", "\tif len(units) > 0 || dir {\n",
		"\tif len(units) > 0 || dir || len(set.Rules()) > 1 {\n", script("whotakes")},
	{"a folder that rules fill is no unit", "internal/core/take/take.go",
		"\t\t\tif is {\n\t\t\t\tcontinue\n\t\t\t}\n", "\t\t\t_ = is\n", script("whotakes")},
	{"a rule for changes hears of the first arrival, so that it knows a change", "internal/core/take/take.go",
		"\t\tcase Loop, Deaf:\n\t\t\tv.Claimed = true\n\t\t\tv.Remember = append(v.Remember, " +
			"reply.of(candidates[i]))\n", "\t\tcase Loop, Deaf:\n\t\t\tv.Claimed = true\n", unit("core/take", ".")},
	{"a rule for removals after the taker knows the file", "internal/core/take/take.go",
		"\t\t\treturn v.others(candidates[i+1:], o, from)\n", "\t\t\treturn nil\n", unit("core/take", ".")},
	{"an error in reading what is remembered is an error", "internal/core/take/take.go",
		"\t\treturn memory, false, fmt.Errorf(\"what the rule %s remembers of %s cannot be read: %w\", " +
			"c.Rule.Name.S,\n\t\t\tc.Unit, err)\n", "\t\treturn memory, false, nil\n", unit("core/take", ".")},
	{"a file that went through a rule does not go through it again", "internal/core/take/take.go",
		"\tcase c.Rule.Loops == rule.LoopsStop && loop.Stops(c.Rule.Name.S, chain):\n", "\tcase false:\n",
		script("circles")},

	// Bounded.
	{"whoever waits for a commit waits until few enough rows are under way", "internal/ledger/writer.go",
		"len(w.rows.groups) == 0) && !many {\n", "len(w.rows.groups) == 0) && (!many || w != nil) {\n",
		unit("ledger", "TestABurstWaitsForTheTables")},

	// Reads beside the flow.
	{"a job that ended while the queue was read does not run again", "internal/core/flow/window.go",
		" && !h.over[row.ID] {\n", " {\n", simulation},
	{"a job that came while the queue was read is taken up", "internal/core/flow/window.go",
		" && !h.more {\n", " {\n", unit("engine", "TestAJobThatComesWhile")},
	{"held jobs whose time came while the queue was read are taken from the first on",
		"internal/core/flow/window.go", "\tcase h.stale || !f.mayFill(name):\n", "\tcase !f.mayFill(name):\n",
		unit("engine", "TestATimeThatComes")},
	{"a file that changed while it was looked into is decided on as it is then", "internal/core/flow/inside.go",
		"\tif f.settle.Has(o.path) {\n", "\tif false {\n", unit("engine", "TestAFileThatChangesWhile")},
	{"a file that went while it was looked into is not waited for", "internal/core/flow/offers.go",
		"f.opening.leave(path) && j != nil", "j != nil", unit("engine", "TestAFileThatGoesWhile")},
	{"files are taken in their order where they are looked into", "internal/core/flow/inside.go",
		"\t\tcase f.opening.busy[lane], len(", "\t\tcase len(", unit("engine", "TestFilesAreTakenInTheirOrder")},
	{"a file that is looked into may be one that went, under another name", "internal/core/flow/removals.go",
		"return f.opening.any(due) ||", "return", unit("engine", "TestARenameIsKnownWhen")},
	{"a file that is looked at on a share may be one that went", "internal/core/flow/removals.go",
		" || len(f.asking) > 0 && f.eyes.Unsure(path)", "", unit("engine", "TestARenameIsKnownOn")},
	{"a pass is not over while a file is looked into", "internal/core/flow/chosen.go",
		"\t\tif c.Has(o.under, path) {\n", "\t\tif false && c.Has(o.under, path) {\n",
		unit("engine", "TestAFileIsLookedInto")},
	{"a group waits for a file that came in time and is looked into", "internal/core/flow/inside.go",
		"return at, ok && !f.opening.any(at)", "return at, ok", unit("engine", "TestAGroupWaits")},
	{"a sweep waits while very many files are looked at", "internal/engine/loop.go",
		"into > maxInto || at > maxAt {\n", "into > maxInto && at > maxAt {\n", unit("engine", "TestWhatWaits")},
	{"a job whose file goes while it is looked into is over", "internal/core/flow/offers.go",
		"\t\tf.wait(path, j.rule, settle.Nudged, now) // the next look tells its job\n", "",
		unit("engine", "TestAJobWhoseFileGoes")},
	{"a job that is cancelled while it is looked into does not come back", "internal/core/flow/inside.go",
		"\tf.settle.Forget(path)\n\tf.opening.leave(path)\n", "\tf.settle.Forget(path)\n",
		unit("engine", "TestAJobThatIsCancelledWhileItIs")},
	{"an order waits for what is looked into", "internal/core/flow/inside.go",
		"below && !one.at.After(by)", "below && one.at.IsZero()", unit("engine", "TestAnOrderWaitsForWhatIsInside")},
	{"the files of a queue are looked into beside the flow", "internal/core/flow/window.go",
		"\t\tf.lookIntoRows(from, set, rows)\n", "\t\t_ = set\n", unit("engine", "TestTheFilesOfAQueue")},
	{"a job on a share is looked into before it begins", "internal/core/flow/jobs.go",
		" || f.opens(j, now)) {", ") {", unit("engine", "TestAJobOfAnEarlierRunIsLookedInto")},
	{"a setting file that is being read is not read twice at once", "internal/core/flow/againon.go",
		"\t\tf.again.reading[s] = true\n\t\treturn\n", "\t\tf.again.reading[s] = true\n",
		unit("engine", "TestASettingThatChanges")},
	{"the answer of a folder that was silent is not believed", "internal/core/flow/againon.go",
		"\tif !asked || !changed {\n", "\tif asked && !changed {\n", unit("engine", "TestASettingThatIsNot")},
	{"a queue that cannot be read is not read over and over", "internal/core/flow/window.go",
		"\t\tw.pause = now.Add(refillAgain)\n", "", unit("engine", "TestAQueueThatCannotBeRead")},

	{"what happens does not wait behind what a sweep finds", "internal/watchfs/sweeper.go",
		"!s.w.sendFound(s.batch)", "!s.w.send(s.batch)", soon("watchfs", "TestAFullFolderHoldsUpNoEvent")},

	{"a command in a folder that may cease to answer keeps its arguments", "internal/runner/system_unix.go",
		"c.dir, c.path}, args[1:]...)", "c.dir, c.path}, args...)", unit("runner", "TestACommandInAFarFolder")},

	{"a ledger that cannot be written is not asked over and over", "internal/engine/loop.go",
		"\t\tif e.troubled() == nil { //", "\t\tif e.ledger != nil { //", unit("engine", "TestWhatWaitsInABurst")},
	{"what a sweep finds waits while the ledger is behind", "internal/engine/loop.go",
		"\tif e.ledger.Behind() > maxBehind {\n", "\tif e.ledger.Behind() < 0 {\n",
		unit("engine", "TestWhatWaitsInABurst")},

	// Sweeps that hold back what is known.
	{"a decision that needs more than what is remembered is left to the flow", "internal/sift/sift.go",
		"\treturn v.Claimed && !k.more && ", "\treturn v.Claimed && ", unit("sift", ".")},
	{"known files that changed during a sweep are looked for", "internal/sift/sift.go",
		" && before == s.memory.KnownEdits(rule)\n", " && before >= 0\n", unit("sift", ".")},
	{"a sweep for files that are handled again tells all", "internal/core/flow/ask.go",
		"return len(f.renew)+len(f.leaving) > 0", "return len(f.leaving) > 0", script("again")},
	{"a sweep for files that are left tells all", "internal/core/flow/ask.go",
		"return len(f.renew)+len(f.leaving) > 0", "return len(f.renew) > 0", script("existing")},

	// In the middle of a job.
	{"what a job works on is offered to no rule", "internal/core/flow/claims.go",
		"\t\tif f.claims[key] == nil && (key == path || facts.Ino != 0) {\n", "\t\tif false {\n",
		script("offered")},
	{"of a job that failed nothing is left to a chain", "internal/engine/attempt.go",
		"\tproblems := w.TakeBack(w.Placed, a.Units(), false)\n", "\tvar problems []string\n", script("offered")},
	{"a file that a command took away is nowhere", "internal/core/flow/ends.go", "\t\twas.At, j.gone = \"\", true\n",
		"\t\tj.gone = true\n", script("owndoing")},
	{"what can be known before the first step is known before it", "internal/engine/attempt.go",
		"\tif err := a.Plan.Ready(); err != nil {\n", "\tif err := a.Plan.Ready(); false {\n", script("foreknown")},
	{"a job whose end cannot be placed takes back what its steps placed", "internal/core/flow/ends.go",
		"\t\tif len(j.rule.Steps) > 0 {\n\t\t\tf.unmake(j, now)\n", "\t\tif false {\n\t\t\tf.unmake(j, now)\n",
		script("unmade")},
	{"what an archive holds that was there already is not the job's", "internal/work/unpack.go",
		"\t\tif r.Same {\n", "\t\tif false {\n", script("unpacked")},
	{"the copy of a file that is gone stays", "internal/work/takeback.go",
		"\t\tif gone && p.Kind == job.Put && !p.Replaced {\n", "\t\tif gone = false; gone {\n",
		script("lastcopy")},
	{"the copy of a file that a command changed stays", "internal/work/last.go",
		"\t\tcase why == \"\" && now.Exists:\n\t\t\twhy = \"has changed\"\n",
		"\t\tcase now.Exists:\n\t\t\treturn nil\n", script("lastcopy")},
	{"the markers of a batch go along", "internal/core/flow/take.go",
		"\tj.row.Extra = append(j.row.Extra, f.markersOf(r, j.row.Files()...)...)\n", "", script("ready")},
	{"a marker is named after its file", "internal/placing/placing.go",
		"\tname := filepath.Base(plan.MarkerOf(m.Marker, all[at].Target))\n", "\tname := m.To.Name\n",
		script("sameplace")},
	{"an empty file beside its part-file is not ready", "internal/watchfs/watchfs.go",
		"\t\tif f, err := Stat(path + ending); err == nil && f.Exists {\n",
		"\t\tif f, err := Stat(path + ending); err == nil && f.Exists && false {\n", script("partfile")},

	// What the simulation must see without any other test; it runs in the project's check.
	{"simulation alone: the intention is durable before a file is moved", "internal/placing/placing.go",
		"\terr := d.ledger.Sync(runs) // the intentions of all that wait: who comes meanwhile holds up none of " +
			"them\n", "\terr := error(nil)\n", simulation},
	{"simulation alone: a file is looked at again before its attempt", "internal/core/flow/jobs.go",
		"!j.checked.Equal(now) && !f.still(j, now)", "false", simulation},
	{"simulation alone: all files of a group are looked at again", "internal/core/flow/take.go",
		"\tj.checked = time.Time{} // its files settled one after the other, the first perhaps long ago\n", "",
		simulation},
	{"simulation alone: a job that ends the watcher again and again fails", "internal/core/flow/resume.go",
		"\tif sameBoot {\n\t\trow.Crashes++\n\t}\n", "\t_ = sameBoot\n", simulation},
	{"simulation alone: a file that stays is remembered", "internal/core/flow/ends.go",
		"\tif fileNow == path || j.gone && path == j.row.File && j.rule.Reacts(file.Removed) {\n", "\tif false {\n",
		simulation},
	{"simulation alone: after a crash what the steps placed is taken back", "internal/engine/recover.go",
		"\tproblems = m.e.hands(row.ID, row.Watch, m.e.flow.Rules(), row.Rule, nil).TakeBack(list, inputs, true)\n",
		"\t_ = inputs\n", simulation},

	// Crashes and commands by hand.
	{"an attempt that a crash cut short is none of those that may fail", "internal/core/flow/resume.go",
		"\trow.Earlier++ // an attempt that was cut short is none of those that may fail\n", "", script("crashes")},
	{"a job that ends the watcher again and again fails", "internal/core/flow/resume.go",
		"\tif sameBoot {\n\t\trow.Crashes++\n\t}\n", "\t_ = sameBoot\n", script("crashes")},
	{"after a crash what the steps placed is taken back", "internal/engine/recover.go",
		"\tproblems = m.e.hands(row.ID, row.Watch, m.e.flow.Rules(), row.Rule, nil).TakeBack(list, inputs, true)\n",
		"\t_ = inputs\n", ended("steps.*fail.*")},
	{"an undo that was cut short goes on", "internal/work/takeback.go",
		"\tif resumed && IsBack(p) {\n\t\tc.back(p)\n\t\treturn nil\n\t}\n", "",
		ended("undo_of_a_move_to_another_disk")},
	{"an undone replacement brings back what it replaced, wherever it was ended", "internal/work/takeback.go",
		"\tif IsHalfBack(p) {\n", "\tif false {\n", ended("undo_of_a_replacement")},
	{"an undone move of a folder between disks leaves nothing hidden", "internal/work/takeback.go",
		"\tif !target.Exists && back.Exists && p.Facts.Dir { // it has its hidden name, and some of it has gone\n",
		"\tif false {\n", ended("undo_of_a_folder")},
	{"a retry removes the failure note, wherever it was ended", "internal/byhand/settle.go",
		"\t\tif err := removeTraces(placer, row.State, p.Source, at); err != nil {\n\t\t\treturn err\n\t\t}\n", "",
		ended("retry_from_another_disk")},
	{"the copy of a folder is recorded before it has its name", "internal/place/request.go",
		"\totherwise := s.Duplicate || s.Facts.Dir && s.Facts.Ino != r.Expect.Ino\n",
		"\totherwise := s.Duplicate\n", ended("folder_to_another_disk")},
	{"the intention is durable before a file is moved", "internal/placing/placing.go",
		"\terr := d.ledger.Sync(runs) // the intentions of all that wait: who comes meanwhile holds up none of " +
			"them\n", "\terr := error(nil)\n", unit("engine", "TestNoFileIsMovedBeforeItsIntentionIsDurable")},
	{"without a watcher nothing runs", "internal/cli/jobs.go",
		"\t\tif list[i].State == job.Running {\n\t\t\tlist[i].Become(job.Queued)\n",
		"\t\tif false {\n\t\t\tlist[i].Become(job.Queued)\n", script("cutshort")},
	{"a job's further files are durable with it", "internal/ledger/record.go",
		"\tl.w.addTogether(append([]keyed{{key, r}}, memberRecords(j)...))\n",
		"\tl.w.add(key, r)\n\tl.RecordMembers(j)\n", unit("ledger", "TestAJobIsNeverWithoutItsMembers")},
	{"a missing program blocks its rule, and fails no file", "internal/core/flow/jobs.go",
		"\tcase res.Missing:\n\t\tf.missingProgram(j, res)\n", "", script("trouble")},
	{"a failure that comes again counts", "internal/ledger/filter.go",
		" AND \" +\n\t\t\t\"dismissed.attempts = job.attempts)", ")", script("standing")},
	{"a queued job of a paused rule is shown as held", "internal/standing/rules.go",
		"\t\t\ts.Held, s.Queued = s.Held+s.Queued, 0\n\t\t}\n\t\tif r.Schedule", "\t\t}\n\t\tif r.Schedule",
		script("standing")},
	{"a log that nobody closes is told of", "internal/watchfs/inotify_linux.go",
		"watchMask|unix.IN_MODIFY", "watchMask", script("whileopen")},
	{"the same failure is not told each time", "internal/core/notice/notice.go",
		"\tif e.Kind == Failed && g.holds(channel, wait, e) {\n\t\treturn\n\t}\n", "",
		[]string{"-run", "TestTheSameFailure", "./internal/core/notice"}},
	{"a file's place is kept true when a later rule moves it", "internal/ledger/nowin.go",
		"\t\tjobs[i].FileNow = at\n", "\t\t_ = at\n", script("kepttrue")},
	{"a retry does not take up a newer file of the same name", "internal/byhand/retry.go",
		"\t\tif j.FileNow == row.FileNow && (j.Facts.Size != row.Facts.Size || j.Facts.Mod != row.Facts.Mod) {\n",
		"\t\tif false {\n", []string{"-run", "^TestScripts$", "./cmd/stilltide"}},
	{"a failed folder comes back whole", "internal/byhand/retry.go",
		"\tfacts, err := watchfs.LookAny(row.FileNow)\n", "\tfacts, err := watchfs.Stat(row.FileNow)\n",
		ended("retry_of_a_folder")},
	{"undo gives a removed duplicate its mode and time back", "internal/place/undo.go",
		"\t\tback.Looks = &r.Before\n", "", script("relies")},
	{"several jobs are undone as long as one more can be", "internal/byhand/undo.go",
		"\t\tif len(refused) == 0 || len(refused) == len(sent) {\n", "\t\tif true {\n", script("kepttrue")},

	// File systems that do not answer.
	{"a look that is older than an event is asked again", "internal/core/flow/silent.go",
		"\t\tf.settle.Nudge(path, now)\n", "\t\tf.lookedAt(path, look, now)\n", unit("engine", "TestALookBeside")},
	{"what is left alone is so also on a slow share", "internal/core/flow/take.go",
		"\tf.leaveOwed(path, candidates, facts)\n", "", unit("engine", "TestWhatIsLeftAlone")},
	{"a job in a folder that does not answer gives its worker back", "internal/core/flow/silent.go",
		"\t\t\tf.dispatch.Idle(id)\n", "\t\t\t_ = id\n", unit("engine", "TestASilentFolder")},
	{"a call that is not answered is waited for once", "internal/look/answers.go",
		"\tif m.overdue > 0 {\n\t\ta.mu.Unlock()\n\t\treturn plan.NoAnswer{Point: m.point}\n\t}\n", "",
		unit("look", "TestACallThatIsNot")},
	{"a job that fails for an empty folder is not taken again for its own doing", "internal/work/takeback.go",
		"\t\t\tu.Facts.Mod = now.Mod // an empty folder", "\t\t\t// an empty folder",
		[]string{"-run", "^TestLaws$", "./internal/laws", "-laws.seed=71490"}},

	// What is said before.
	{"preview knows what a rule would have handled", "internal/advice/preview.go",
		"\t\tp.handled[c.Rule.Name.S+\"\\x00\"+c.Unit] = take.Memory{Facts: w.Self.Facts, Job: 1}\n", "",
		script("kepttrue")},
	{"preview goes on with chains", "internal/advice/preview.go",
		"\t\tp.next = append(p.next, offered{path, stage})\n", "\t\t_ = stage\n", script("foretold")},
	{"the last save of a run is run", "internal/quick/quick.go", "\ts.machine.Changed(path, now.Add(s.pause()))\n",
		"\tif s.pause() == 0 {\n\t\ts.machine.Changed(path, now)\n\t}\n", script("quick")},
	{"a mirrored copy is not removed because its file was moved by a rule", "internal/core/flow/ends.go",
		"\t\t\tf.forget(path, false, now)\n", "\t\t\t_ = path\n", script("kepttrue")},

	// Other machines.
	{"what is not signed is not run", "internal/wire/wire.go",
		"\tif err != nil || by.Verify(data, signature) != nil {\n", "\tif _ = signature; err != nil || by == nil {\n",
		unit("wire", "TestOffersAreSigned")},
	{"what travels is compared with its digest", "internal/wire/parts.go",
		"\tif n != item.Size || hex.EncodeToString(sum.Sum(nil)) != item.SHA {\n", "\tif n != item.Size {\n",
		unit("fleet", "TestDamageOnTheWay")},
	{"a result that no ticket waits for is dropped", "internal/fleet/results.go",
		"\t\tf.clearing.Go(func() { f.clear(name, m) })\n\t}\n", "\t\t_ = m.Nak()\n\t}\n",
		soon("fleet", "TestOneResultCounts")},
	{"a ticket of an earlier attempt is taken up", "internal/fleet/carry.go",
		"\t\tcase k.Content == content && k.Pool == t.Pool && !resumed:\n", "\t\tcase content == \"\":\n",
		soon("fleet", "TestTakenUpAgain")},
	{"what the engine has lost is offered again", "internal/fleet/results.go",
		"\t\t\t\tif err := f.handOver(ctx, w, t); err != nil {\n", "\t\t\t\tif err := error(nil); err != nil {\n",
		soon("fleet", "TestTakenUpAgain")},
	{"a ticket is in the ledger before anybody can know of it", "internal/fleet/carry.go",
		"\t\tif err := f.o.Book.Sync(ctx); err != nil {\n", "\t\tif err := error(nil); err != nil {\n",
		soon("fleet", "TestDurableFirst")},
	{"a program that travelled along is the one that was sent", "internal/lend/kept.go",
		"\treturn err == nil && sum == item.SHA\n", "\t_ = sum\n\treturn err == nil\n", unit("lend", "TestKept")},
}
