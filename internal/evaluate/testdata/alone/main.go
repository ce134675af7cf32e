// A program that is nothing but its own child, for the tests of the bound: built without the race detector.
package main

import _ "urgentis/internal/evaluate"

func main() {}
