// Package device is the dialogue with devices that have no shell: what their prompts look like, how their modes are
// entered, and, from what a device prints, what is to be typed next.
//
// # A dialogue
//
// A dialogue (core/device.Talk) is told what a device printed and when it fell silent, and says what is to be typed;
// act/ssh/dialogue.go is only the terminal around it. How a kind of device is spoken with is no part of a runbook: a
// target's facts name its kind with its revision, so that an approval is bound to it as to a host key.
package device
