// Package fleet defines the nouns of Stavren: a Fleet of Machines with their images,
// disks, networks, ports, users, keys and first-boot content.
//
// Everything here is a plain value. Nothing reads a file, opens a socket or writes a
// format. A program can build a Fleet by hand. It then calls [Fleet.Complete] once,
// which fills in every default, and passes the result to checks and renderers. The
// reader of definition files does the same.
//
// Each noun embeds [Origins], which knows where each of its values came from: a place
// in a file, perhaps through a kit or a variant, or a default. The struct tag `key`
// on a field is its name in the definition language; origins, fates and paths in
// findings use that name. The tag `scope` marks what only the definition and its
// checks use, such as kits and limits, and what never reaches a target.
package fleet
