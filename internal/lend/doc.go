// Package lend is a helper: it runs commands for watchers on other machines. It has no rules and
// no ledger, and touches no folder but its own.
//
// It takes one offer a worker, and none ahead. While a command runs its lease is renewed, and each
// renewal is confirmed; without one the command is ended, since another helper may get it. See
// package fleet for the whole.
package lend
