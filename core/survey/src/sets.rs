//! Made-up messages in the manner of fourteen sorts of programs, each with the number of the template that it was made by.

use std::fmt::Write as _;

use fastrand::Rng;

/// Templates, one on a line. What varies stands in braces; the more often a template comes, the earlier it stands.
const SETS: [(&str, &str); 14] = [
    (
        "block store",
        "Receiving block {blk} src: /{ip}:{port} dest: /{ip}:{port}
PacketReply {small} for block {blk} ending
Received block {blk} of size {big} from /{ip}
BLOCK* NameQuay.addStoredBlock: blockMap updated: {ip}:{port} is added to {blk} size {big}
BLOCK* NameQuay.allocateBlock: /user/root/{word}/_temporary/_task_{id}/part-{n}. {blk}
Verification succeeded for {blk}
Deleting block {blk} file /mnt/hold/current/{blk}
{ip}:{port} Served block {blk} to /{ip}
{ip}:{port}:Got exception while serving {blk} to /{ip}:
BLOCK* ask {ip}:{port} to replicate {blk} to datanode(s) {ip}:{port}
Unexpected error trying to delete block {blk}. BlockInfo not found in volumeMap.",
    ),
    (
        "sign-in daemon",
        "Failed password for invalid user {login} from {ip} port {port} ssh2
Connection closed by {ip} [preauth]
pam_unix(gate:auth): authentication failure; logname= uid=0 euid=0 tty=ssh ruser= rhost={ip}
Received disconnect from {ip}: 11: Bye Bye [preauth]
Failed password for {login} from {ip} port {port} ssh2
Invalid user {login} from {ip}
input_request: invalid user {login} [preauth]
pam_unix(gate:auth): check pass; user unknown
reverse mapping checking getaddrinfo for {host} [{ip}] failed - POSSIBLE BREAK-IN ATTEMPT!
Did not receive identification string from {ip}
Accepted password for {login} from {ip} port {port} ssh2
pam_unix(gate:session): session opened for user {login} by (uid={small})
pam_unix(gate:session): session closed for user {login}
message repeated {small} times: [ Failed password for root from {ip} port {port}]
Too many authentication failures for {login} [preauth]
error: Received disconnect from {ip}: 3: org.example.quay.ShellException: Auth fail [preauth]
fatal: Write failed: Connection reset by peer [preauth]",
    ),
    (
        "cloud of machines",
        "{ip} \"GET /v2/{hex}/servers/detail HTTP/1.1\" status: {n} len: {big} time: {float}
{ip} \"POST /v2/{hex}/os-server-external-events HTTP/1.1\" status: {n} len: {big} time: {float}
{ip} \"DELETE /v2/{hex}/servers/{uuid} HTTP/1.1\" status: {n} len: {big} time: {float}
[instance: {uuid}] VM Started (Lifecycle Event)
[instance: {uuid}] VM Paused (Lifecycle Event)
[instance: {uuid}] VM Resumed (Lifecycle Event)
[instance: {uuid}] VM Stopped (Lifecycle Event)
[instance: {uuid}] Took {float} seconds to build instance.
[instance: {uuid}] Took {float} seconds to spawn the instance on the hypervisor.
[instance: {uuid}] Terminating instance
[instance: {uuid}] Deleting instance files {path}
[instance: {uuid}] Deletion of {path} complete
[instance: {uuid}] Creating image
[instance: {uuid}] Attempting claim: memory {n} MB, disk {small} GB, vcpus {small} CPU
[instance: {uuid}] Total memory: {n} MB, used: {float} MB
[instance: {uuid}] memory limit: {float} MB, free: {float} MB
image {uuid} at ({path}): checking
image {uuid} at ({path}): in use: on this node {small} local, {small} on other nodes sharing this instance storage
Active base files: {path}
Auditing locally available compute resources for node {host}
Compute_service record updated for {host}:{host}",
    ),
    (
        "proxy client",
        "{exe} - {host}:{port} open through proxy {host}:{port} HTTPS
{exe} - {host}:{port} close, {big} bytes sent, {big} bytes received, lifetime {lifetime}
{exe} - {host}:{port} open through proxy {host}:{port} SOCKS
{exe} - {host}:{port} close, {big} bytes ({kb} KB) sent, {big} bytes ({kb} KB) received, lifetime {lifetime}
{exe} - {host}:{port} error : Could not connect through proxy {host}:{port} - Proxy server cannot establish a connection with the target, status code {n}
{exe} - {host}:{port} error : Could not connect to proxy {host}:{port} - connection attempt failed with error {n}
{exe} - {host}:{port} open directly",
    ),
    (
        "coordinator",
        "Received connection request /{ip}:{port}
Connection broken for id {big}, my id = {small}, error =
Notification time out: {n}
Interrupting SendWorker
Interrupted while waiting for message on queue
Send worker leaving thread
Accepted socket connection from /{ip}:{port}
Client attempting to establish new session at /{ip}:{port}
Established session {hex0} with negotiated timeout {n} for client /{ip}:{port}
Expiring session {hex0}, timeout of {n}ms exceeded
Processed session termination for sessionid: {hex0}
Closed socket connection for client /{ip}:{port} which had sessionid {hex0}
caught end of stream exception
Have smaller server identifier, so dropping the connection: ({small}, {small})
Cannot open channel to {small} at election address /{ip}:{port}
FOLLOWING
LEADING - LEADER ELECTION TOOK - {n}
tickTime set to {n}
Reading snapshot {path}",
    ),
    (
        "job runner",
        "Running task {float1} in stage {float1} (TID {n})
Finished task {float1} in stage {float1} (TID {n}). {n} bytes result sent to driver
Block broadcast_{n} stored as values in memory (estimated size {float} KB, free {float} KB)
Block broadcast_{n}_piece{small} stored as bytes in memory (estimated size {float} KB, free {float} MB)
Started reading broadcast variable {n}
Reading broadcast variable {n} took {n} ms
Found block rdd_{n}_{n} locally
Got assigned task {n}
attempt_{big}_{n} TaskAttempt Transitioned from NEW to UNASSIGNED
attempt_{big}_{n} TaskAttempt Transitioned from UNASSIGNED to ASSIGNED
attempt_{big}_{n} TaskAttempt Transitioned from ASSIGNED to RUNNING
attempt_{big}_{n} TaskAttempt Transitioned from RUNNING to SUCCEEDED
Registering class {class} for class {class}
Getting {small} non-empty blocks out of {n} blocks
Started {small} remote fetches in {n} ms
Input split: hold://{host}:{port}/{word}/part-{n}:{n}+{big}
Driver commanded a shutdown
Shutdown hook called
Connecting to driver: tide://{word}@{ip}:{port}
Successfully registered with driver",
    ),
    (
        "kernel of a large machine",
        "instruction cache parity error corrected
generating core.{n}
{n} double-hummer alignment exceptions
CE sym {small}, at {hex0}, mask {hex0}
ciod: failed to read message prefix on control stream (QuayStream socket to {ip}:{port})
ciod: Error reading message prefix after LOGIN_MESSAGE on QuayStream socket to {ip}:{port}: Link has been severed
data TLB error interrupt
total of {small} ddr error(s) detected and corrected over {n} seconds
{small} ddr errors(s) detected and corrected on rank {small}, symbol {small}, bit {small}
{n} floating point alignment exceptions
rts: kernel terminated for reason {n}
MidplaneSwitch performing bit sparing on {rack} bit {small}
ciod: Error loading {path}: invalid or missing program image, Exec format error
ciod: Error loading {path}: program image too big, {big} > {big}
node card is not fully functional
machine check interrupt (bit={hex0}): L2 dcache unit data parity error
iar {hex8} dear {hex8}
Node card VPD check: missing {rack} node, VPD ecid {hex}",
    ),
    (
        "cluster board",
        "PSU status ( {onoff} {onoff} )
Fan speeds ( {n} {n} {n} {n} {n} {n} )
Component State Change: Component \\042alt{small}\\042 is in the unavailable state (HWID={n})
Temperature ({small}) exceeds warning threshold
ambient={small}
boot (command {n})
haltQuay (command {n})
Linkerror event interval expired
node node-{n} has detected an available network connection on network {ip} via interface alt{small}
ClusterFileSystem: There is no server for ServerFileSystem domain storage{n}
ServerFileSystem: An ServerFileSystem domain panic has occurred on storage{n}
Targeting domains:node-D{small} and nodes:node-[{nodes}] child of command {n}
Command has completed successfully
Lustre mount FAILED : quay{n} : block_id : {rack}",
    ),
    (
        "workstation",
        "session opened for user {login} by (uid={small})
session closed for user {login}
authentication failure; logname= uid=0 euid=0 tty=QUAYssh ruser= rhost={host}
check pass; user unknown
connection from {ip} () at {weekday} Jul {small} {time} 2026
ALERT exited abnormally with [1]
({login}) CMD (run-parts {path})
({login}) CMD ({path} {path} -q)
Out of Memory: Killed process {n} ({word}).
klogd {float1}, log source = {path} started.
hda: task_no_data_intr: status={hex0} {{ DriveReady SeekComplete Error }}
ttyS{small} at {hex0} (irq = {small}) is a 16550A
{word}: segfault at {hex8} rip {hex8} rsp {hex8} error {small}
synchronized to {ip}, stratum {small}
Received SNMP packet(s) from {ip}
usb {small}-{small}: new full speed USB device using address {small}
imps2: Detected active mouse on port {small}
removing device node '/udev/vcs{small}'",
    ),
    (
        "laptop",
        "AirQuay: Link Down on en{small}. Reason {small} (Disassociated because station leaving).
en{small}: BSSID changed to {mac}
en{small}: channel changed to {small}
RTC: PowerByCalendarDate setting ignored
Wake reason: EC.{word} (Maintenance)
ARPT: {float}: AirQuay_Ferry::syncPowerState: WWEN[enabled]
ARPT: {float}: wl{small}: wl_update_tcpkeep_seq: Original Seq: {big}, Ack: {big}, Win size: {n}
[HID] [ATC] QuayEventService::processWakeReason Wake reason: Host ({hex0})
USBQuay {word} XHCI: resetting port {small}
no name in app {class} for pid {n}
hibernate image path: {path}
SecOSStatusWith error:[-{n}] The operation couldn't be completed. (OSStatus error -{n} - Remote error : The operation couldn't be completed. ({word} error {n} - failed))
objc[{n}]: Class TideGauge is implemented in both {path} and {path}. One of the two will be used. Which one is undefined.
DHCP {word} sent on en{small}
Couldn't update name for {host}: timed out after {small} seconds
process {n} crashed in bundle {class}",
    ),
    (
        "telephone",
        "acquire lock={big}, flags={hex0}, tag=\"{class}\", name=quay, ws=null, uid={n}, pid={n}
release lock={big}, flg={hex0}, tag=\"{class}\", name=quay, ws=null, uid={n}, pid={n}
ready={bool},policy={small},wakefulness={small},wksummary={hex0},uasummary={hex0},bootcompleted={bool},boostinprogress={bool}
setSystemUiVisibility vis={small} mask={hex0} oldVal={hex0} newVal={hex0} diff={hex0}
printFreezingDisplayLogs opening app wtoken = AppToken{{{hex} token=Token{{{hex} Record{{{hex} u{small} {class}/.activity.Quay t{n}}}}}}}, allDrawn= {bool}, startingDisplayed = {bool}
Skipping AppToken{{{hex} token=Token{{{hex} Record{{{hex} u{small} {class}/.activity.Quay t{n}}}}}}} -- going to hide
startAnimation begin
startAnimation end
animateCollapsePanels:flags={small}, force={bool}, delayed={bool}, mExpandedVisible={bool}
Destroying surface Surface(name={class}/{class}) called by {class}:{n} {class}:{n}
onTouchEvent, ACTION_DOWN
onTouchEvent, ACTION_UP
getRunningAppProcesses: caller {n} does not hold REAL_GET_TASKS; limiting output
updateLightsLocked mBatteryLow:{bool}, plugged:{bool}, level:{small}
visible is system.time.showampm
cleanUpApplicationRecord -- {n}",
    ),
    (
        "health app",
        "onStandStepChanged {n}
onExtend:{big} {small} {small} {small}
getTodayTotalDetailSteps = {big}##{n}##{big}##{n}##{n}##{big}
calculateCaloriesWithCache totalCalories={n}
calculateAltitudeWithCache totalAltitude={small}
setTodayTotalDetailSteps={big}##{n}##{big}##{n}##{n}##{big}
REPORT : {n} {n} {n} {small}
processHandleBroadcastAction action:quay.intent.action.SCREEN_ON
processHandleBroadcastAction action:quay.intent.action.TIME_TICK
onReceive action: quay.intent.action.SCREEN_OFF
flush sensor data
getBinderPackageName packageName = {class}
saveHealthDetailData() deleteHealthDetailData endTime = {big}
saveStatData() type ={n},time={big},statClient={small},who={small}
insertHiHealthData() bulkSaveDetailHiHealthData fail errorCode = {small},errorMessage = ERR_DATA_INSERT
tryToReloadTodayBasicSteps
screen status unknown,think screen on
totalAltitude={small}
upLoadHealthData end, needSync {bool} time {n} ms",
    ),
    (
        "web server",
        "jk{small}_init() Found child {n} in scoreboard slot {small}
workerEnv.init() ok {path}
mod_quay child workerEnv in error state {small}
[client {ip}] Directory index forbidden by rule: {path}
jk{small}_init() Can't find child {n} in scoreboard
mod_quay child init {small} -{small}
[client {ip}] File does not exist: {path}
[client {ip}] client denied by server configuration: {path}
[client {ip}] script '{path}' not found or unable to stat
[client {ip}] Invalid URI in request {word} {path} HTTP/1.1
caught SIGTERM, shutting down
Graceful restart requested, doing restart
configured -- resuming normal operations",
    ),
    (
        "servicing of an office computer",
        "CBS Loaded Servicing Stack v{ver} with Core: C:\\\\Windows\\\\winsxs\\\\amd64_{hex}\\\\cbscore.dll
SQM: Initializing online with Windows opt-in: {boolcap}
SQM: Cleaning up report files older than {small} days.
SQM: Requesting upload of all unsent reports.
SQM: Failed to start upload with file pattern: C:\\\\Windows\\\\servicing\\\\sqm\\\\{word}.sqm, flags: {hex0} [HRESULT = {hex0} - E_FAIL]
Read out cached package applicability for package: Package_for_KB{n}~{hex}~amd64~~{ver}, ApplicableState: {small}, CurrentState:{small}
Session: {n}_{big} initialized by client WindowsUpdateAgent.
Warning: Unrecognized packageExtended attribute.
Expecting attribute name [HRESULT = {hex0} - CBS_E_MANIFEST_INVALID_ITEM]
Failed to get next element [HRESULT = {hex0} - CBS_E_MANIFEST_INVALID_ITEM]
Starting TrustedInstaller initialization.
Ending TrustedInstaller initialization.
Starting the TrustedInstaller main loop.
TrustedInstaller service starts successfully.
No startup processing required, TrustedInstaller service was not set as autostart
{n}Creating NT transaction (seq {small}), objectname [{small}]\"(null)\"
{n}Created NT transaction (seq {small}) result {hex0}, handle @{hex0}
NonStart: Set pending store consistency check.
Idle processing thread terminated normally",
    ),
];

fn pick<'a>(random: &mut Rng, words: &[&'a str]) -> &'a str {
    // As names come: some often, most rarely.
    let at = random.usize(..words.len()).min(random.usize(..words.len()));
    words[at]
}

fn vary(kind: &str, random: &mut Rng, out: &mut String) {
    const LOGINS: [&str; 24] = [
        "root",
        "admin",
        "test",
        "guest",
        "oracle",
        "support",
        "ann",
        "bo",
        "pi",
        "ferry",
        "mysql",
        "git",
        "nagios",
        "uucp",
        "ftp",
        "backup",
        "news",
        "webmaster",
        "operator",
        "student",
        "postgres",
        "monitor",
        "info",
        "ubuntu",
    ];
    const WORDS: [&str; 20] = [
        "gangway", "mooring", "sort", "harbour", "tern", "heron", "plover", "tide", "ticket", "crew", "boatlist", "vessel", "ramp", "lantern", "buoy",
        "anchor", "rope", "deck", "cabin", "ledger",
    ];
    const HOSTS: [&str; 8] = [
        "quay.ferries.example",
        "proxy.marrow.example",
        "ns.tansy.example",
        "mail.lowmere.example",
        "a.skerry.example",
        "desk.ferries.example",
        "kiosk.marrow.example",
        "gate.tansy.example",
    ];
    const CLASSES: [&str; 10] = [
        "org.example.ferry.Mooring",
        "org.example.quay.event.JobEventType",
        "com.example.tide.Gauge",
        "com.example.deck",
        "org.example.crew.RosterImpl",
        "quay.view.Window",
        "com.example.ramp.ui",
        "org.example.hold.Cargo$Box",
        "quay.app.Service",
        "com.example.buoy.Light",
    ];
    const PATHS: [&str; 8] = [
        "/var/lib/quay/base",
        "/etc/ferry/cron.hourly",
        "/usr/bin/tide",
        "/srv/www/html/",
        "/etc/httpd/conf/workers.properties",
        "/home/ann/boats",
        "/dev/null",
        "/opt/mooring/lib/core",
    ];
    let hex = |random: &mut Rng, digits: usize, out: &mut String| (0..digits).for_each(|_| out.push(char::from(b"0123456789abcdef"[random.usize(..16)])));
    let _ = match kind {
        "ip" => write!(out, "192.0.2.{}", random.u8(1..)),
        "port" => write!(out, "{}", random.u16(1_000..)),
        "small" => write!(out, "{}", random.u8(..40)),
        "n" => write!(out, "{}", random.u32(100..9_000)),
        "big" => write!(out, "{}", random.u64(10_000..9_000_000_000)),
        "float" => write!(out, "{}.{}", random.u16(..500), random.u32(1..100_000)),
        "float1" => write!(out, "{}.{}", random.u16(..500), random.u8(..9)),
        "kb" => write!(out, "{}.{}", random.u16(1..500), random.u8(1..99)),
        "blk" => write!(out, "blk_{}", random.i64(..)),
        "id" => write!(out, "{}_{}", random.u32(..), random.u16(..)),
        "hex" => {
            hex(random, 12, out);
            Ok(())
        }
        "hex8" => {
            hex(random, 8, out);
            Ok(())
        }
        "hex0" => write!(out, "0x{:x}", random.u32(..)),
        "uuid" => {
            for (i, digits) in [8, 4, 4, 4, 12].into_iter().enumerate() {
                out.push_str(if i > 0 { "-" } else { "" });
                hex(random, digits, out);
            }
            Ok(())
        }
        "mac" => write!(out, "02:42:{:02x}:{:02x}:{:02x}:{:02x}", random.u8(..), random.u8(..), random.u8(..), random.u8(..)),
        "rack" => write!(out, "R{:02}-M{}-N{:X}-J{:02}", random.u8(..40), random.u8(..2), random.u8(..16), random.u8(..20)),
        "ver" => write!(out, "6.1.{}.{}", random.u16(7_000..8_000), random.u16(..)),
        "nodes" => write!(out, "{}-{} {}", random.u8(..60), random.u8(60..), random.u8(..)),
        "time" => write!(out, "{:02}:{:02}:{:02}", random.u8(..24), random.u8(..60), random.u8(..60)),
        "lifetime" => match random.u8(..3) {
            0 => write!(out, "<1 sec"),
            1 => write!(out, "{:02}:{:02}", random.u8(..60), random.u8(..60)),
            _ => write!(out, "{:02}:{:02}:{:02}", random.u8(..24), random.u8(..60), random.u8(..60)),
        },
        "exe" => write!(out, "{}", pick(random, &["ferry.exe", "tide.exe", "deck.exe", "quay.exe *64", "mail.exe"])),
        "weekday" => write!(out, "{}", pick(random, &["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"])),
        "bool" => write!(out, "{}", random.bool()),
        "boolcap" => write!(out, "{}", if random.bool() { "True" } else { "False" }),
        "onoff" => write!(out, "{}", if random.u8(..4) == 0 { "off" } else { "on" }),
        "login" => write!(out, "{}", pick(random, &LOGINS)),
        "word" => write!(out, "{}", pick(random, &WORDS)),
        "host" => write!(out, "{}", pick(random, &HOSTS)),
        "class" => write!(out, "{}", pick(random, &CLASSES)),
        "path" => write!(out, "{}", pick(random, &PATHS)),
        other => panic!("nothing is called {other}"),
    };
}

/// The names of the sets, and of each its messages with the numbers of their templates.
pub(crate) fn all(lines: usize) -> Vec<(&'static str, Vec<(usize, String)>)> {
    SETS.iter()
        .map(|(name, templates)| {
            let templates: Vec<&str> = templates.lines().collect();
            let mut random = Rng::with_seed(name.len() as u64);
            let line = |_| {
                // The earlier, the more often; each is there.
                let at = random.usize(..templates.len()).min(random.usize(..templates.len())).min(random.usize(..templates.len() + 2));
                let (mut out, mut rest) = (String::new(), templates[at]);
                while let Some(open) = rest.find(['{', '}']) {
                    out.push_str(&rest[..open]);
                    let doubled = rest[open..].starts_with("{{") || rest[open..].starts_with("}}");
                    if doubled {
                        out.push_str(&rest[open..=open]);
                        rest = &rest[open + 2..];
                        continue;
                    }
                    let close = open + rest[open..].find('}').unwrap_or_else(|| panic!("{rest}"));
                    vary(&rest[open + 1..close], &mut random, &mut out);
                    rest = &rest[close + 1..];
                }
                out.push_str(rest);
                (at, out)
            };
            (*name, (0..lines).map(line).collect())
        })
        .collect()
}
