// Package render puts results into words for people: tables, facts, lists, sizes, times,
// and what to do next. Command line code asks jobs for a result and hands it to a
// Printer; whatever is read on a terminal, in a mail or in a log is worded here.
//
// Start with Printer, whose Show methods each take one typed result, and with Advised,
// which turns the reason of an error into the line that begins with "next:".
//
// Names, paths and messages that come from a site, a store or a server may hold anything.
// They pass Printable (one name) or PrintableText (lines) before they are shown, so that
// none of them can steer the terminal. Nothing here reads, writes or decides anything:
// that a text is true is up to whoever gives the result.
package render
