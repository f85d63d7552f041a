// Package wire is what watchers and helpers have in common: how they reach the engine that carries
// commands (NATS JetStream), what they say to one another, who may believe whom, and how files
// travel.
//
// An offer is signed by its watcher. A file travels in parts, each under a subject of its own that
// holds one message, and is compared with the digest that was sent before it; small ones lie in the
// message itself.
package wire
