// Package plain writes text from outside so that it can neither steer a terminal, nor look like other text, nor begin a
// line that the program did not begin.
//
// # Text from outside
//
// It is data everywhere. In the words of a command it stands only where it is bounded (core/expr/harmless.go,
// core/runbook/bounded.go); in a path it is one piece; marks of secrets can be made only by the runbook's own text. On
// its way to people it passes one function: core/plain in the command line, which prints with say and makes plain
// every argument that is not the program's own text, and plain.ts in the console, which does so with every answer of
// the service.
package plain
