package check

// rules is the rule book, by theme. The order within a theme is the order in
// which a person would look for the cause.
var rules = []Rule{
	// Names that lead nowhere.
	unknownImage,
	unknownSystem,
	unknownNetwork,
	unknownKey,
	unknownFirewall,
	unknownSecret,
	// Resources.
	memoryBelowNeed,
	diskBelowNeed,
	// Networks.
	addressOutsideSubnet,
	addressReserved,
	addressUsedTwice,
	// Ports.
	portClaimedTwice,
	portRangeExhausted,
	// Keys.
	keyPrivate,
	keyMalformed,
	// First boot.
	scriptNotParsed,
	scriptWaits,
}
