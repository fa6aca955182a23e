package check

// rules is the rule book, by theme. The order within a theme is the order in
// which a person would look for the cause. Bookkeeping comes last, since it asks
// what the others found.
var rules = []Rule{
	// Names that lead nowhere, and names that do not fit.
	unknownImage, unknownSystem, unknownNetwork, unknownKey, unknownFirewall, unknownSecret, nameTooLong,
	// Images.
	systemEnded, systemEnding, imageWithoutID,
	// Resources and limits.
	memoryBelowNeed, diskBelowNeed,
	overHostMemory, overHostCPUs, overQuota,
	// Disks and shares.
	mountTwice, mountHides, labelTooLong, fileSystemTool, busCannotBoot, mediumStays, shareOfHome,
	// Networks.
	addressOutsideSubnet, addressReserved, addressUsedTwice, addressInDHCP,
	subnetsOverlap, subnetUnfit, subnetTooSmall, publicUnroutable, gatewayOutside, hardwareAddressTwice, primaryTwice, dnsNameTwice, noWayIn,
	// Ports.
	portClaimedTwice, portRangeExhausted, portBelowLimit, portOutgoing, portListensToAll,
	// Firewalls.
	openToWorld, sensitivePortOpen, everythingOpen, ruleShadowed, publicWithoutFirewall, shutOut, portStopped,
	// Keys and users.
	keyPrivate, keyMalformed, keyWeak, keyOptions, keyTwice, keyShared,
	nobodyCanLogIn, nobodyIsAdmin, adminWithoutPassword, uidTwice, userReserved, shellMissing, passwordLogin, rootLogin, hashWeak,
	// First boot.
	scriptNotParsed, scriptWaits, scriptLineEnds, scriptByteOrderMark, scriptNeedlessSudo, scriptForeignManager, everyBootNotRepeatable, restartNeeded, secretInPlatformData,
	fileWorldWritable, fileSecretReadable, ownerMissing,
	// Console and firmware.
	consoleOpen, firmwareNeeded, secureBootWithoutUEFI, secureBootUnsigned,
	// This host.
	hostPortInUse, hostMemory, hostRoom, hostImage, hostImageChecksum, imageWithoutChecksum, hostImageLarger, privateKeyMode,
	hostBridge, hostSubnet, hostVirtualisation, hostTool,
	// Bookkeeping.
	unusedDefinition, acceptUnknown, acceptUnused,
}
