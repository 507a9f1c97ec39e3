package fit

// Meaning of a code, for people who read the catalogue.
type Meaning struct {
	Says    string // two sentences or so: what it is, and what to do
	Example string // of what is said of a case; "" where plans of the tests have one
}

// Meanings says what each code of the catalogue means.
var Meanings = map[string]Meaning{
	"address.given": {
		"The segment of the NIC has addresses to give out, and this is the one that the machine gets. The " +
			"guest has to be told it by its first start, or by hand.", ""},
	"address.none-free": {
		"All addresses that the segment has to give out belong to machines. Widen its range, or free one by " +
			"deleting what nobody uses.",
		"All addresses from 192.0.2.50 to 192.0.2.59, which the segment lab has to give out, are taken."},
	"address.static": {
		"The guest has a fixed address that another machine has too, or that does not belong where it would " +
			"be connected. Give it another, connect it to quarantine until somebody has changed it inside, or " +
			"keep it if you know that the other one is off.", ""},
	"busy.job": {
		"Another job is at work on the same copy, folder or package. Wait until it has ended, or cancel it; " +
			"the message names it.", ""},
	"certificate.invalid": {
		"The package is signed, and the signature does not fit what is in it, or its certificate has expired. " +
			"Somebody may have changed the package: accept it only if you know why.",
		"The signature does not fit the manifest."},
	"certificate.untrusted": {
		"The package is signed by somebody whom nobody here has said to trust. The signature itself is sound: " +
			"nothing was changed since it was signed.",
		"It is signed by CN=Skerrow Marine, whom nobody here trusts yet."},
	"clone.not-layered": {
		"A layered clone shares what its origin holds, and that is not possible here: the message says why. A " +
			"whole clone copies the disks and stands on its own.", ""},
	"controller.model": {
		"Disks hang on a controller that hosts of the family do not have. It is replaced by the best one that " +
			"they have and that the guest has a driver for.", ""},
	"copy.already-here": {
		"The host lists this very folder already. There is nothing to register; to have a second machine, " +
			"clone it.", ""},
	"copy.hollow-here": {
		"The host lists an entry of the same machine whose files are gone. Replace the entry by what comes " +
			"in, or leave it beside.", ""},
	"copy.left-behind": {
		"The host that lists the machine does not have its pool now, a drive that was pulled out say. It " +
			"comes off the list there, so that only one host lists it.", ""},
	"copy.listed-elsewhere": {
		"The pool is one that several hosts see, and another host lists this machine. It has to come off that " +
			"list first, or be moved from there: two hosts must never start one set of files.",
		"petrel lists this folder: unvora move petrel/tide-gauge --host gannet."},
	"copy.newer-elsewhere": {
		"Another copy of the lineage has run since this one was made, so that one has what was written " +
			"meanwhile. Go on if an older state is what you want, else use the other one.", ""},
	"copy.stood-on": {
		"The disks of other machines are layers on the disks of this one. Taking it away, or writing to it, " +
			"would break them: make those stand alone first.", ""},
	"copy.untracked": {
		"Somebody has said that this copy is to be left alone here. It is seen and compared, and never " +
			"touched; unvora track looks after it again.", ""},
	"cpu.architecture": {
		"The machine is made for processors of another architecture than the host has. It can't run there.",
		"It is made for aarch64; gannet has x86_64."},
	"cpu.feature-missing": {
		"The machine asks for abilities of a processor that the host does not have. Without them most guests " +
			"run all the same, those that need them stop early.",
		"The host's processors do not have avx512f."},
	"cpu.too-many": {
		"The machine has more virtual CPUs than the host gives one machine. They are reduced to what it " +
			"gives.", ""},
	"cpu.topology": {
		"The CPUs can't be divided into sockets and cores in the way that is stated. The nearest division " +
			"that the host gives is taken; software that is licensed by sockets may count differently then.",
		"6 CPUs can't be 4 to a socket."},
	"descriptor.deployment-options": {
		"The package offers several configurations, small and large ones say. Pick one; the first is the " +
			"maker's own choice.", ""},
	"descriptor.eula": {
		"The package comes with a licence text that has to be accepted before it is used. It is shown in " +
			"full, and accepted by name only.",
		"It has a licence text to accept."},
	"descriptor.item-required": {
		"The descriptor marks a piece of hardware as required that can't be given here. Leave it out if the " +
			"machine does without, or refuse the package.",
		"It requires a device of the kind 31, which is not known here."},
	"descriptor.lost": {
		"The folder has disks, and no descriptor that can be read. It is rebuilt from what the inventory knew " +
			"of this copy, or made anew around the disks.", ""},
	"descriptor.malformed": {
		"The descriptor is not well-formed, or is not of the standard. Line and column are told; whoever made " +
			"the package has to make it again.",
		"tide-gauge.ovf, line 12, column 4: unexpected end element </Item>."},
	"descriptor.property-missing": {
		"The package wants a value of whoever brings it in, and has none of its own. Give it: --answer " +
			"descriptor.property-missing/KEY=value:TEXT, or --property KEY=TEXT.",
		"The property station.name needs a value."},
	"descriptor.section-required": {
		"The descriptor marks a section as required that is not understood here. Without it the machine may " +
			"lack something: ask whoever made the package.", ""},
	"descriptor.several-machines": {
		"The package holds more than one machine. Bring in all of them, in the order in which they are to " +
			"start, or only some by name.", ""},
	"descriptor.version": {
		"The descriptor is of a version of the standard that is not known here. It is read as the nearest one " +
			"that is.",
		"It is of version 3.0; it is read as 2.1."},
	"device.host-path": {
		"A device points to a file or a device of the host that it came from. There is none such here: remove " +
			"it, or point to another.",
		"Serial port 1 writes to /var/log/old-host.log."},
	"device.limit": {
		"The machine has more devices of a kind than hosts of the family can have. The first ones are kept.",
		"It has 3 CD drives; hosts of the family quartz have 2."},
	"device.needless": {
		"The guest does without this device on hosts of this family, and it may be in the way. Removing it " +
			"changes nothing that is stored.",
		"Sound card 1 is not needed here."},
	"device.passthrough": {
		"A device of the old host's hardware was handed through to the machine. It is not here; the machine " +
			"starts without it.",
		"GPU 1 belongs to the hardware of skua."},
	"disk.boot-unclear": {
		"The machine has several disks, and nothing says from which it starts. The one with a boot record is " +
			"proposed.", ""},
	"disk.chain-deep": {
		"The disk is many layers one above the other, more than are good for its speed, or than the family " +
			"takes. Merged, it is one file.", ""},
	"disk.chain-loop": {
		"The layers of the disk lead back to themselves, so that none is the lowest. Its files were mixed up: " +
			"look for the right parent.", ""},
	"disk.damaged": {
		"The image contradicts itself: header, tables or log can't all be right. What is certain can be " +
			"repaired, and what can be read can be salvaged to a new image; the old one stays.", ""},
	"disk.depended-on": {
		"Machines stand on this disk, which stays where it is. As long as nothing writes to it they are safe, " +
			"and Unvora sees to that.", ""},
	"disk.empty": {
		"The image holds no data at all. Leave it out, or keep it if the guest is to format it.", ""},
	"disk.encrypted": {
		"The contents of the disk are encrypted, and can't be read here. It can be carried as it is, in the " +
			"same format.", ""},
	"disk.format-foreign": {
		"Hosts of this family do not run disks of this format. It is converted on the way; the guest sees the " +
			"same blocks.", ""},
	"disk.format-unknown": {
		"The file begins like no format that is known. It may be a raw image: say so, and it is read as one.", ""},
	"disk.id-not-kept": {
		"The disk bears an id that can't be written in the format that it gets. It gets a new one.", ""},
	"disk.id-repeated": {
		"Another disk on the host bears the same id. Some hypervisors refuse to attach both, so this one gets " +
			"a new id.", ""},
	"disk.in-use": {
		"Something has the file open and may write to it. Stop the machine that uses it, or wait.", ""},
	"disk.leftover-reference": {
		"A drive names a medium that is not here. Eject it, or point to a file that is.", ""},
	"disk.missing": {
		"The descriptor names a file that is not there. Point to where it is now, or leave the disk out.", ""},
	"disk.nothing-bootable": {
		"Nothing was found that the machine could start from: no boot record, no EFI partition, no medium. It " +
			"may be meant to start from the network.", ""},
	"disk.outside-pool": {
		"The disk lies in no pool of the host, where nobody looks after it. It is copied into one.", ""},
	"disk.parent-changed": {
		"The layer was made on another state of this parent. On the wrong one its data make no sense: look " +
			"for the right one before you say that it is this.", ""},
	"disk.parent-missing": {
		"The file that the layer stands on is not where it says. One that fits may lie nearby, or you point " +
			"to it.", ""},
	"disk.parent-of-others": {
		"Layers elsewhere stand on this disk, and writing to it would break them. A new layer on top takes " +
			"the writes.", ""},
	"disk.sector-size": {
		"The disk has sectors of a size that the family can't give a guest. Written with sectors of 512 " +
			"bytes, most guests start from it.", ""},
	"disk.shared": {
		"Another machine names the same file. Two machines that write to one disk destroy it: this one gets a " +
			"full copy.", ""},
	"disk.size-mismatch": {
		"Descriptor and image state different capacities. The image is trusted: it is what the guest will " +
			"see.", ""},
	"disk.size-over": {
		"The disk is larger than the format or the family can hold. Leave it out, or choose a host of another " +
			"family.", ""},
	"disk.unclean": {
		"The image was not closed properly, after a crash say, and its log holds writes that are not in place " +
			"yet. Replaying puts them there.", ""},
	"file.outside": {
		"A path leads out of the pools of the host, by way of a link or by its own words. Such files are " +
			"never opened.",
		"d.qcow2 leads out of the pool reef, to /etc/shadow."},
	"file.special": {
		"What lies there is no ordinary file but a device, a pipe or a socket. It is not opened.",
		"disk1.raw is a device, not a file."},
	"firmware.unsupported": {
		"Hosts of this family can't start machines with this firmware. A machine can't be turned from one to " +
			"the other from outside.", ""},
	"firmware.variables-missing": {
		"The machine starts by UEFI, and the file in which its firmware remembers what to start is not here. " +
			"A fresh one finds the system by its standard place.", ""},
	"environment.told": {
		"The package wants its guest to be told what it is and what its properties are worth. It finds that as " +
			"ovf-env.xml on a disc, in a drive of its own, until it is said that it has read it: unvora change COPY " +
			"--first-start-done.", ""},
	"environment.untold": {
		"The package has properties that whoever brings it in may set, and does not say that its guest reads them " +
			"from a disc. They are kept in the descriptor.", ""},
	"first-start.by-hand": {
		"Nothing in the guest reads what it is to be told at its first start. The disc lies in a drive, and " +
			"somebody has to run it inside.", ""},
	"first-start.no-drive": {
		"What the machine is to be told comes on a disc, and there is no room for another drive. Drop one " +
			"that is not needed.", ""},
	"first-start.read": {
		"The guest has something that reads what it is to be told at its first start. It does so by itself " +
			"when it is started.", ""},
	"first-start.unsure": {
		"Nothing was found on the disks that reads what the guest is to be told, and they may not have been " +
			"readable. Where nothing does, somebody does by hand, inside, what the message names.", ""},
	"guest.driver-missing": {
		"The guest seems to have no driver for the controller of its disks, so it would not find them. A " +
			"controller that it knows is taken instead.",
		"The guest has no driver for virtio-scsi; it has one for ahci."},
	"guest.stated-wrong": {
		"The descriptor says that another system is in the machine than the one found on its disk. What was " +
			"found is what counts for drivers and devices.", ""},
	"guest.unknown": {
		"Nothing says which system is in the machine. What was found on its disk is proposed, or you say it; " +
			"it only guides the choice of devices.", ""},
	"hardware.newer": {
		"The machine was made for a newer set of virtual hardware than the host has. It is lowered to what " +
			"the host has.",
		"It is of revision 5; gannet has 4."},
	"hardware.older": {
		"The machine was made for older virtual hardware than the host has. It can be raised, or kept if its " +
			"guest minds changes.",
		"It is of revision 2; gannet has 4."},
	"host.clock": {
		"The clock of the host is off from that of the service. Times in its logs, and how long leases hold, " +
			"are off by as much.", ""},
	"host.no-acceleration": {
		"The host has to emulate the processor, in software. The machine runs, many times slower.",
		"tern has no hardware acceleration: machines are emulated, many times slower."},
	"host.older": {
		"The agent of the host is older than what is asked of it. Bring it up to the version of the service.", ""},
	"host.resting": {
		"Somebody has set the host to rest: it starts nothing and takes nothing new. unvora host wake lets it " +
			"work again.", ""},
	"host.silent": {
		"The host that lists the machine does not answer, and nobody can tell whether it runs there. Only if " +
			"you know that it is off, say so by name: two running copies of one disk destroy it.", ""},
	"host.unable": {
		"The hypervisor of the host can't do this. The message says what it is that it can't.",
		"The hypervisor of skua can't have machines paused."},
	"host.unheard": {
		"The host lists the machine, and only the service can't reach it: it goes on writing to the pool that " +
			"both see. Stop the machine there, or see to the network between.", ""},
	"host.unreachable": {
		"The agent of the host does not answer. Start it, or look at the network between; then ask again.", ""},
	"identity.activation": {
		"A licence or an activation depends on this part of the identity, and renewing would break it. It is " +
			"kept unless you say otherwise by name.", ""},
	"identity.collides": {
		"A machine with the same identity or MAC runs already. Stop that one, or renew one of the two: unvora " +
			"renew.", ""},
	"identity.guest-inside": {
		"Host name, machine-id and host keys are inside the guest, and stay as they are. A first start can " +
			"change them: --first-start.", ""},
	"identity.origin-alive": {
		"What this copy was made from is still there and could run beside it. With a renewed identity both " +
			"can run; keep it if this one is to take the other's place.", ""},
	"identity.origin-gone": {
		"What this copy was made from is gone. It can take its place, with the same identity, so that " +
			"licences and reservations go on.", ""},
	"identity.origin-unknown": {
		"Nobody here knows what this copy was made from. If none of its ids is in use it keeps them, else it " +
			"gets new ones.", ""},
	"identity.same-copy": {
		"It is the very copy that was taken off its host's list, and comes back as that one. Its ids stay as " +
			"they were.",
		"It is the copy that gannet listed until robin took it off the list, 5 min ago. It stays that copy, " +
			"with its ids."},
	"identity.uuid-in-use": {
		"Another registered machine has the same machine UUID. Backup, licences and inventories of others " +
			"take the two for one, so this one gets a new UUID.", ""},
	"key.no-backup": {
		"The key that protects the machine's secrets is kept here and nowhere else. Back the key file up, or " +
			"what it protects is lost with this computer.",
		"The key that its TPM is sealed with has no backup."},
	"mac.in-use": {
		"Another registered machine has the same MAC. On one network the two disturb each other, so this one " +
			"gets a new MAC; kept, they can't both run.", ""},
	"mac.invalid": {
		"What is stated as MAC is none that a NIC may have. It gets a new one.", ""},
	"mac.licence-bound": {
		"A licence or a reservation of addresses is bound to the MAC. It is kept; if another copy has it too, " +
			"give that one a new MAC.", ""},
	"manager.ahead": {
		"The disks of this machine were fetched ahead of its import. Only what has changed since is read now.", ""},
	"manager.rights": {
		"The account that Unvora has at the manager may not do this. Ask whoever looks after the manager for " +
			"the right that is named.", ""},
	"manager.running": {
		"The machine runs at the manager. It is stopped there while images of its disks are made, or taken as " +
			"it is at one moment.", ""},
	"manager.still-there": {
		"The machine that this one came from is still at the manager. It is put beside it, under another " +
			"name, or in its place, which removes that one.", ""},
	"manager.stopped-only": {
		"The manager makes images of machines only while they are stopped. It is stopped for that long, and " +
			"started again.", ""},
	"manifest.absent": {
		"The package has no manifest, so nothing shows whether it arrived whole. What is read is checked as " +
			"far as its formats allow.", ""},
	"manifest.algorithm-weak": {
		"The digests are SHA-1. They show damage, and no longer that nobody meddled with the package.", ""},
	"manifest.incomplete": {
		"The manifest does not name all files. What it does not name could have been changed without anybody " +
			"noticing.", ""},
	"manifest.mismatch": {
		"A file does not have the digest that the manifest states: it was damaged on the way, or changed. " +
			"Fetch it again; accept it only if you know what was changed.", ""},
	"memory.too-much": {
		"The machine has more memory than the host can give it. It is reduced to what the host has.", ""},
	"memory.varying": {
		"The machine's memory grows and shrinks while it runs, which this family does not do. It is fixed at " +
			"the stated size.",
		"Its memory varies from 1 GiB to 4 GiB."},
	"name.from-snapshot": {
		"The machine bears the name of the snapshot that it was made from. The name that the machine itself " +
			"has is proposed.", ""},
	"name.taken": {
		"Another machine, or a folder in the pool, has this name. A free one is proposed; nothing is ever " +
			"written over.", ""},
	"name.unfit": {
		"The name has signs that can't stand in a file's name, or is too long. A cleaned one is proposed.", ""},
	"network.ambiguous": {
		"Several switches fit the network that the NIC was on, and no rule says which. Choose one; a rule of " +
			"wiring settles it for the next time.", ""},
	"network.cuts-admin": {
		"The change touches the port by which the host itself is reached. It is taken back by itself unless " +
			"the host is reached again in time.", ""},
	"network.mapped": {
		"The NIC goes to this switch, and the message says by what: a rule, its segment, its VLAN, or its " +
			"name. Nothing is to be done.", ""},
	"network.segment-differs": {
		"The switch that was chosen leads to another segment than the NIC was on. The machine will find other " +
			"neighbours there.", ""},
	"network.switch-absent": {
		"The switch that the NIC is to be connected to is not on this host. It can be made, or the NIC goes " +
			"elsewhere.", ""},
	"network.switch-in-use": {
		"NICs of machines are connected to the switch. Connect them elsewhere before it is dropped.", ""},
	"network.unmapped": {
		"Nothing says where the NIC belongs on this host. In quarantine it has neighbours, and no way out, " +
			"until somebody has decided.", ""},
	"nic.model": {
		"Hosts of this family do not have NICs of this model. It is replaced by the best one that the guest " +
			"has a driver for.", ""},
	"owner.none": {
		"Nobody is named as the owner of the machine. Somebody has to be, since quotas and messages go by " +
			"owners.", ""},
	"package.bomb": {
		"The package would unpack to far more than it states. Such packages are made to fill disks; it is " +
			"refused.",
		"big.vmdk would unpack to more than 64 times its size."},
	"package.entry-repeated": {
		"Two entries of the archive bear one name, and readers differ in which they take. It is refused.",
		"disk1.vmdk is in the archive twice."},
	"package.file-missing": {
		"The descriptor names a file that is not in the package. Fetch the package again, or leave the disk " +
			"out.", ""},
	"package.file-unused": {
		"The package has a file that its descriptor does not name. It is left where it is.", ""},
	"package.free-space": {
		"What the file systems of a disk mark as free is left out of the package, as was asked for, or why it is " +
			"not. All files read the same; what was deleted can't be brought back from such a package.", ""},
	"package.holds": {
		"It says what the package is to hold, and what its receiver does not get. Look at it before you give " +
			"the package to others.", ""},
	"package.path-escape": {
		"The name of an entry leads out of the package. Such packages are made to write where they should " +
			"not; it is refused.",
		"../../etc/passwd leads out of the package."},
	"package.too-large": {
		"A part of the package is larger than such parts may be. It is refused before it is read.",
		"tide-gauge.ovf has 80 MiB; a descriptor has 16 MiB at most."},
	"package.truncated": {
		"The package ends before its end: it was not fetched whole. Fetch it again; what is there is gone on " +
			"with.", ""},
	"package.unknown": {
		"It is no package that is known: no OVA, no folder with an OVF descriptor, no archive around one. If " +
			"it is a disk image, import it as one.",
		"notes.txt is no package."},
	"package.weak-digest": {
		"SHA-1 was asked for, for readers that know nothing else. It shows damage, and not that nobody " +
			"meddled with the package.", ""},
	"path.too-long": {
		"A path would be longer than hosts of this family take. Give the machine a shorter name.", ""},
	"permission.denied": {
		"The account that the agent runs as may not read or write there. Give it the right; the message names " +
			"the path.",
		"The agent may not write into /srv/reef: it belongs to root."},
	"place.by-rule": {
		"A rule of landing, or a wish, has chosen this pool. unvora landing list shows the rules.", ""},
	"place.by-spread": {
		"The host was chosen among several by their room. Each that does not take the machine is named with " +
			"its reason.",
		"petrel takes it: it has the most room of those that can."},
	"place.nowhere": {
		"None of the hosts can take the machine: each is named with its reason. Make room, wake a host, or " +
			"name one.",
		"No host takes it: gannet is full, skua has no switch of the segment lab."},
	"place.taken": {
		"A file or folder of this name is there already. Choose another name; nothing is ever written over.", ""},
	"pool.away": {
		"The pool is not there now: a drive that was pulled out, a share that is not mounted. Bring it back, " +
			"or choose another.", ""},
	"pool.disks-elsewhere": {
		"Machines of the pool have disks in other pools. Those stay where they are when this one is handed " +
			"over.", ""},
	"pool.foreign": {
		"The pool belongs to a manager or to another Unvora, which may change it at any time. It takes " +
			"nothing from here.", ""},
	"pool.handed-over": {
		"The pool was handed over and is nobody's now. Take it over before you use it: unvora pool take-over.",
		"The pool kelp was handed over, and is nobody's. unvora pool take-over kelp makes it ours."},
	"pool.holds-disks": {
		"Disks of machines that lie in other pools are in this one. They would be cut off from their " +
			"machines.", ""},
	"pool.in-use": {
		"Machines run from the pool. They have to be stopped before it is handed over.", ""},
	"pool.lease-silent": {
		"The pool bears the mark of an owner that has not been heard of for long. Take it only if you know " +
			"that nothing runs from it there.", ""},
	"pool.ownerless": {
		"The file system of the pool keeps no owners and no rights of files. Whoever has the drive can read " +
			"the disks on it.", ""},
	"pool.read-only": {
		"The pool can't be written: it is mounted read-only, or its drive is failing. Choose another.", ""},
	"pool.resting": {
		"Somebody has set the pool to rest: it takes nothing new. unvora pool wake ends that.", ""},
	"pool.slow": {
		"The pool was measured to be slow, and the machine's disks would lie on it. It works; expect the " +
			"guest to wait.", ""},
	"quota.exceeded": {
		"The owner of the machine would have more than the quota gives. Make room, make it another's, or have " +
			"the quota raised.", ""},
	"rebuild.lost": {
		"Files of a machine that the host had are gone, so it can't be listed again. The message says whether " +
			"a package has it as it was; the rebuild goes on without.", ""},
	"rebuild.switch": {
		"A switch that the host had can't be made again as it was. The rebuild goes on without it; NICs that " +
			"were on it are unplugged.", ""},
	"size.class": {
		"The place gives machines in fixed sizes only. The nearest one that holds this machine is taken.",
		"It gets the size medium: 2 CPUs, 4 GiB."},
	"snapshot.moment": {
		"It says what the snapshot is worth: the disks as after a power cut, or put in order by the guest " +
			"first. Memory is not part of it.", ""},
	"snapshot.present": {
		"What was written since the snapshot would be lost by going back. It is kept as a snapshot of its " +
			"own, unless you let it go by name.", ""},
	"snapshot.stood-on": {
		"Other machines stand on this snapshot. Make those stand alone before it is dropped.", ""},
	"snapshot.unportable": {
		"The machine has snapshots that the other host can't take over. It goes along as it is now.", ""},
	"source.last-copy": {
		"It is the last copy of its lineage: once it is gone there is none. Keep its files, or type its name.", ""},
	"space.file-limit": {
		"Files in the pool can't be as large as this one will be, whatever is free: its file system has a " +
			"bound. Choose another pool for the disk.", ""},
	"space.short": {
		"There is not enough room for what comes. Free some, or choose another place.", ""},
	"space.short-later": {
		"There is room now, and less than all that the disks or the package may come to. Watch it, or choose " +
			"a roomier place.", ""},
	"space.temporary": {
		"On the way more room is needed than at the end, for what is kept aside. Free some, or choose another " +
			"place.",
		"12 GiB are needed on the way; reef has 8 GiB free."},
	"state.cut-off": {
		"It is turned off as by a power cut. What the guest had not written yet is lost.", ""},
	"state.held": {
		"The machine is suspended, and what it had in memory fits only the disks and devices that it has. Let " +
			"it go on, or drop that state, before they are changed.", ""},
	"state.left-behind": {
		"The machine is suspended, and what its guest has in memory does not go along. There it starts as " +
			"after a power cut.",
		"It is suspended. What its guest has in memory does not go along."},
	"state.live": {
		"The machine runs and goes on running. The change takes effect at once.", ""},
	"state.not-running": {
		"It does not run, and this is for machines that do. Start it first.", ""},
	"state.not-savable": {
		"The hypervisor can't save the state of one of the machine's devices, so it can't be suspended. Pause " +
			"it instead, or stop it.", ""},
	"state.running": {
		"It runs, and this needs its disks to stand still. It is stopped cleanly and started again, or goes " +
			"on while what is needed is taken as of one moment.", ""},
	"state.suspended": {
		"What it had in memory lies in a file that the other host can't go on with. Dropped, it starts " +
			"afresh, and what was only in memory is lost.", ""},
	"state.underway": {
		"It is to be started from another device, once, and runs or is paused. Stop it first, then start it " +
			"so.",
		"It is running, and does not start anew. Stop it first: unvora power off gannet/tide-gauge"},
	"tpm.key-missing": {
		"The key that opens the machine's TPM is not here. Without it the secrets in the TPM can't be read.",
		"The key of its TPM is not in the key file."},
	"tpm.unsupported": {
		"The host can give the machine no TPM. Without it the secrets in it are lost, and a guest whose disk " +
			"it unlocks does not start.",
		"Hosts of the family basalt give machines no TPM."},
	"trash.copy-elsewhere": {
		"What lies in the trash is what a machine left behind when it moved. The machine itself is elsewhere, " +
			"newer, with the same identity.", ""},
	"trash.gone": {
		"What is to be given back is no longer in the trash: its time was over, or somebody took it out.",
		"It was kept until 12 March, and is gone."},
	"web.refused": {
		"The address leads to a place that agents do not fetch from, within the host or its own network, or " +
			"the server refused. Fetch it yourself and bring the file.",
		"http://127.0.0.1/x.ova leads into the host itself."},
}
