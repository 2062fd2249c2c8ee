// Package work is a floor, not code: each package below it is one thing that is done
// with archives.
//
//   - backup takes one, restore puts a site back, rehearse tries that in scratch space;
//   - verify proves archives whole, replicate copies them between stores and heals,
//     removal takes them out of a store;
//   - compare tells what differs, extract copies something out, unpack writes a tree;
//   - preflight looks before anything is done.
//
// A job is a struct that says what to do, Run does it, and a result says what came of
// it. Nothing here knows of schedules, histories or people: package jobs does.
package work
