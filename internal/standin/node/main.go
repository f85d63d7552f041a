// The program node is a NATS server with JetStream, for tests, the benchmark and the demo where
// none is installed: the server of its own module, read from a configuration file. It is no part
// of the main program.
package main

import (
	"flag"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/nats-io/nats-server/v2/server"
)

func main() {
	file := flag.String("c", "", "the configuration `FILE`")
	flag.Parse()
	if err := serve(*file); err != nil {
		fmt.Fprintln(os.Stderr, "node:", err)
		os.Exit(1)
	}
}

// serve runs the server until the program is asked to end.
func serve(file string) error {
	o, err := server.ProcessConfigFile(file)
	if err != nil {
		return err
	}
	o.NoSigs = true
	s, err := server.NewServer(o)
	if err != nil {
		return err
	}
	s.ConfigureLogger()
	end := make(chan os.Signal, 1)
	signal.Notify(end, syscall.SIGTERM, syscall.SIGINT)
	s.Start()
	if !s.ReadyForConnections(20 * time.Second) {
		return fmt.Errorf("it is not ready after 20 s")
	}
	<-end
	s.Shutdown()
	s.WaitForShutdown()
	return nil
}
