// Package fleet runs commands on other machines, over NATS JetStream (https://docs.nats.io).
//
// The ledger stays the truth; the engine is a conveyor that may lose everything. The machine
// that watches is the only one that touches its folders. What travels is one command: its
// words, its inputs, and back what it made, its exit code and what it printed. A [Fleet] is the
// watcher's end; package lend is that of the machine which runs it, package wire what both share.
//
// The order of the acts makes it safe. The watcher makes a ticket durable, sends the parts of
// the inputs, then the offer. A helper takes the offer with a lease that it renews and has
// confirmed, runs the command, sends the parts of the outputs, then the result; the first for a
// ticket wins. The watcher takes one result for a ticket that is open in the ledger, goes on
// with the job as for a command of its own, and only when the job's end is durable it removes
// the parts and the result. What is in neither queue any more is handed over again, under the
// same ticket; a helper that has lost its lease ends its command. So two runs of one command
// may overlap, and one result counts.
package fleet
