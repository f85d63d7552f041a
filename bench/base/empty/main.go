// Command empty does nothing: the least that a Go program costs.
package main

func main() {}
