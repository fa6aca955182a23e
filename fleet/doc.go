// Package fleet holds the nouns of Stavren: a Fleet of Machines with their
// images, disks, networks, ports, users, keys and first-boot content.
//
// Everything here is a plain value. Nothing reads a file, opens a socket or
// writes a format. A program may build a Fleet by hand; it then calls
// [Fleet.Complete] once, which fills in every default, and hands the result to
// the checks and the renderers. The reader of definition files does the same.
//
// Each noun embeds [Origins], which knows where each of its values came from:
// a place in a file, perhaps through a kit or a variant, or a default. The
// struct tag `key` on a field is the name that the definition language gives
// it; origins, fates and paths in findings use that name. The tag `scope` marks
// what is for the definition and its checks alone, such as kits and limits, and
// never reaches a target.
package fleet
