//! Messages of the Open Agent Management Protocol (OpAMP), an open standard of the OpenTelemetry project, as protobuf: what agents and the server that manages them say to one another.
//!
//! Field numbers and types are the standard's; fields are documented there. How the messages travel (over HTTP, or WebSocket) is not in here.

use std::collections::HashMap;

pub use prost::Message;

/// What a body of one message is called over HTTP.
pub const CONTENT_TYPE: &str = "application/x-protobuf";
/// The path at which servers take messages, unless they say otherwise.
pub const PATH: &str = "/v1/opamp";

/// What an agent asks of the server. Bits of a set.
#[allow(missing_docs, reason = "the standard's own names")]
pub mod agent_to_server_flags {
    pub const REQUEST_INSTANCE_UID: u64 = 1;
}

/// What the server asks of an agent. Bits of a set.
#[allow(missing_docs, reason = "the standard's own names")]
pub mod server_to_agent_flags {
    pub const REPORT_FULL_STATE: u64 = 1;
    pub const REPORT_AVAILABLE_COMPONENTS: u64 = 2;
}

/// What a server can do. Bits of a set.
#[allow(missing_docs, reason = "the standard's own names")]
pub mod server_capabilities {
    pub const ACCEPTS_STATUS: u64 = 1;
    pub const OFFERS_REMOTE_CONFIG: u64 = 2;
    pub const ACCEPTS_EFFECTIVE_CONFIG: u64 = 4;
    pub const OFFERS_PACKAGES: u64 = 8;
    pub const ACCEPTS_PACKAGES_STATUS: u64 = 16;
    pub const OFFERS_CONNECTION_SETTINGS: u64 = 32;
    pub const ACCEPTS_CONNECTION_SETTINGS_REQUEST: u64 = 64;
}

/// What a package is for.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, prost::Enumeration)]
#[repr(i32)]
pub enum PackageType {
    TopLevel = 0,
    Addon = 1,
}

/// What is wrong with what an agent asked.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, prost::Enumeration)]
#[repr(i32)]
pub enum ServerErrorResponseType {
    Unknown = 0,
    BadRequest = 1,
    Unavailable = 2,
}

/// What an agent is to do.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, prost::Enumeration)]
#[repr(i32)]
pub enum CommandType {
    Restart = 0,
}

/// What an agent can do. Bits of a set.
#[allow(missing_docs, reason = "the standard's own names")]
pub mod agent_capabilities {
    pub const REPORTS_STATUS: u64 = 1;
    pub const ACCEPTS_REMOTE_CONFIG: u64 = 2;
    pub const REPORTS_EFFECTIVE_CONFIG: u64 = 4;
    pub const ACCEPTS_PACKAGES: u64 = 8;
    pub const REPORTS_PACKAGE_STATUSES: u64 = 16;
    pub const REPORTS_OWN_TRACES: u64 = 32;
    pub const REPORTS_OWN_METRICS: u64 = 64;
    pub const REPORTS_OWN_LOGS: u64 = 128;
    pub const ACCEPTS_OPAMP_CONNECTION_SETTINGS: u64 = 256;
    pub const ACCEPTS_OTHER_CONNECTION_SETTINGS: u64 = 512;
    pub const ACCEPTS_RESTART_COMMAND: u64 = 1024;
    pub const REPORTS_HEALTH: u64 = 2048;
    pub const REPORTS_REMOTE_CONFIG: u64 = 4096;
    pub const REPORTS_HEARTBEAT: u64 = 8192;
    pub const REPORTS_AVAILABLE_COMPONENTS: u64 = 16384;
}

/// What became of a configuration.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, prost::Enumeration)]
#[repr(i32)]
pub enum RemoteConfigStatuses {
    Unset = 0,
    Applied = 1,
    Applying = 2,
    Failed = 3,
}

/// What became of a package.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, prost::Enumeration)]
#[repr(i32)]
pub enum PackageStatusEnum {
    Installed = 0,
    InstallPending = 1,
    Installing = 2,
    InstallFailed = 3,
    Downloading = 4,
}

/// A value of an attribute.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct AnyValue {
    #[prost(oneof = "Value", tags = "1, 2, 3, 4, 5, 6, 7")]
    pub value: Option<Value>,
}

/// What a value is.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Oneof)]
pub enum Value {
    #[prost(string, tag = "1")]
    String(String),
    #[prost(bool, tag = "2")]
    Bool(bool),
    #[prost(int64, tag = "3")]
    Int(i64),
    #[prost(double, tag = "4")]
    Double(f64),
    #[prost(message, tag = "5")]
    Array(ArrayValue),
    #[prost(message, tag = "6")]
    Kvlist(KeyValueList),
    #[prost(bytes = "vec", tag = "7")]
    Bytes(Vec<u8>),
}

/// A list of values.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct ArrayValue {
    #[prost(message, repeated, tag = "1")]
    pub values: Vec<AnyValue>,
}

/// Values by name.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct KeyValueList {
    #[prost(message, repeated, tag = "1")]
    pub values: Vec<KeyValue>,
}

/// An attribute.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct KeyValue {
    #[prost(string, tag = "1")]
    pub key: String,
    #[prost(message, optional, tag = "2")]
    pub value: Option<AnyValue>,
}

/// What an agent says. A part that is left out has not changed since it was said last.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct AgentToServer {
    #[prost(bytes = "vec", tag = "1")]
    pub instance_uid: Vec<u8>,
    #[prost(uint64, tag = "2")]
    pub sequence_num: u64,
    #[prost(message, optional, tag = "3")]
    pub agent_description: Option<AgentDescription>,
    #[prost(uint64, tag = "4")]
    pub capabilities: u64,
    #[prost(message, optional, tag = "5")]
    pub health: Option<ComponentHealth>,
    #[prost(message, optional, tag = "6")]
    pub effective_config: Option<EffectiveConfig>,
    #[prost(message, optional, tag = "7")]
    pub remote_config_status: Option<RemoteConfigStatus>,
    #[prost(message, optional, tag = "8")]
    pub package_statuses: Option<PackageStatuses>,
    #[prost(message, optional, tag = "9")]
    pub agent_disconnect: Option<AgentDisconnect>,
    #[prost(uint64, tag = "10")]
    pub flags: u64,
    #[prost(message, optional, tag = "11")]
    pub connection_settings_request: Option<ConnectionSettingsRequest>,
    #[prost(message, optional, tag = "12")]
    pub custom_capabilities: Option<CustomCapabilities>,
    #[prost(message, optional, tag = "13")]
    pub custom_message: Option<CustomMessage>,
    #[prost(message, optional, tag = "14")]
    pub available_components: Option<AvailableComponents>,
}

/// That an agent ends the connection on purpose.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct AgentDisconnect {}

/// What an agent asks for connections with.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct ConnectionSettingsRequest {
    #[prost(message, optional, tag = "1")]
    pub opamp: Option<OpAmpConnectionSettingsRequest>,
}

/// What an agent asks for its connection to the server.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct OpAmpConnectionSettingsRequest {
    #[prost(message, optional, tag = "1")]
    pub certificate_request: Option<CertificateRequest>,
}

/// A request to sign a certificate.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct CertificateRequest {
    #[prost(bytes = "vec", tag = "1")]
    pub csr: Vec<u8>,
}

/// What an agent is made of.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct AvailableComponents {
    #[prost(map = "string, message", tag = "1")]
    pub components: HashMap<String, ComponentDetails>,
    #[prost(bytes = "vec", tag = "2")]
    pub hash: Vec<u8>,
}

/// A part that an agent is made of.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct ComponentDetails {
    #[prost(message, repeated, tag = "1")]
    pub metadata: Vec<KeyValue>,
    #[prost(map = "string, message", tag = "2")]
    pub sub_component_map: HashMap<String, ComponentDetails>,
}

/// What the server says.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct ServerToAgent {
    #[prost(bytes = "vec", tag = "1")]
    pub instance_uid: Vec<u8>,
    #[prost(message, optional, tag = "2")]
    pub error_response: Option<ServerErrorResponse>,
    #[prost(message, optional, tag = "3")]
    pub remote_config: Option<AgentRemoteConfig>,
    #[prost(message, optional, tag = "4")]
    pub connection_settings: Option<ConnectionSettingsOffers>,
    #[prost(message, optional, tag = "5")]
    pub packages_available: Option<PackagesAvailable>,
    #[prost(uint64, tag = "6")]
    pub flags: u64,
    #[prost(uint64, tag = "7")]
    pub capabilities: u64,
    #[prost(message, optional, tag = "8")]
    pub agent_identification: Option<AgentIdentification>,
    #[prost(message, optional, tag = "9")]
    pub command: Option<ServerToAgentCommand>,
    #[prost(message, optional, tag = "10")]
    pub custom_capabilities: Option<CustomCapabilities>,
    #[prost(message, optional, tag = "11")]
    pub custom_message: Option<CustomMessage>,
}

/// How an agent is to connect to the server.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct OpAmpConnectionSettings {
    #[prost(string, tag = "1")]
    pub destination_endpoint: String,
    #[prost(message, optional, tag = "2")]
    pub headers: Option<Headers>,
    #[prost(message, optional, tag = "3")]
    pub certificate: Option<TlsCertificate>,
    #[prost(uint64, tag = "4")]
    pub heartbeat_interval_seconds: u64,
}

/// Where an agent is to send what it tells of itself.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct TelemetryConnectionSettings {
    #[prost(string, tag = "1")]
    pub destination_endpoint: String,
    #[prost(message, optional, tag = "2")]
    pub headers: Option<Headers>,
    #[prost(message, optional, tag = "3")]
    pub certificate: Option<TlsCertificate>,
}

/// How an agent is to connect elsewhere.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct OtherConnectionSettings {
    #[prost(string, tag = "1")]
    pub destination_endpoint: String,
    #[prost(message, optional, tag = "2")]
    pub headers: Option<Headers>,
    #[prost(message, optional, tag = "3")]
    pub certificate: Option<TlsCertificate>,
    #[prost(map = "string, string", tag = "4")]
    pub other_settings: HashMap<String, String>,
}

/// Headers of requests.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct Headers {
    #[prost(message, repeated, tag = "1")]
    pub headers: Vec<Header>,
}

/// A header of a request.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct Header {
    #[prost(string, tag = "1")]
    pub key: String,
    #[prost(string, tag = "2")]
    pub value: String,
}

/// A certificate, its key, and whose it must be signed by; each in PEM.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct TlsCertificate {
    #[prost(bytes = "vec", tag = "1")]
    pub cert: Vec<u8>,
    #[prost(bytes = "vec", tag = "2")]
    pub private_key: Vec<u8>,
    #[prost(bytes = "vec", tag = "3")]
    pub ca_cert: Vec<u8>,
}

/// How an agent is to connect.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct ConnectionSettingsOffers {
    #[prost(bytes = "vec", tag = "1")]
    pub hash: Vec<u8>,
    #[prost(message, optional, tag = "2")]
    pub opamp: Option<OpAmpConnectionSettings>,
    #[prost(message, optional, tag = "3")]
    pub own_metrics: Option<TelemetryConnectionSettings>,
    #[prost(message, optional, tag = "4")]
    pub own_traces: Option<TelemetryConnectionSettings>,
    #[prost(message, optional, tag = "5")]
    pub own_logs: Option<TelemetryConnectionSettings>,
    #[prost(map = "string, message", tag = "6")]
    pub other_connections: HashMap<String, OtherConnectionSettings>,
}

/// Packages that an agent may install.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct PackagesAvailable {
    #[prost(map = "string, message", tag = "1")]
    pub packages: HashMap<String, PackageAvailable>,
    #[prost(bytes = "vec", tag = "2")]
    pub all_packages_hash: Vec<u8>,
}

/// A package that an agent may install.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct PackageAvailable {
    #[prost(enumeration = "PackageType", tag = "1")]
    pub r#type: i32,
    #[prost(string, tag = "2")]
    pub version: String,
    #[prost(message, optional, tag = "3")]
    pub file: Option<DownloadableFile>,
    #[prost(bytes = "vec", tag = "4")]
    pub hash: Vec<u8>,
}

/// A file that can be fetched.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct DownloadableFile {
    #[prost(string, tag = "1")]
    pub download_url: String,
    #[prost(bytes = "vec", tag = "2")]
    pub content_hash: Vec<u8>,
    #[prost(bytes = "vec", tag = "3")]
    pub signature: Vec<u8>,
    #[prost(message, optional, tag = "4")]
    pub headers: Option<Headers>,
}

/// Why the server cannot do what an agent asks.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct ServerErrorResponse {
    #[prost(enumeration = "ServerErrorResponseType", tag = "1")]
    pub r#type: i32,
    #[prost(string, tag = "2")]
    pub error_message: String,
    #[prost(oneof = "Details", tags = "3")]
    pub details: Option<Details>,
}

/// What an error says beyond its words.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Oneof)]
pub enum Details {
    #[prost(message, tag = "3")]
    RetryInfo(RetryInfo),
}

/// When to come back.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct RetryInfo {
    #[prost(uint64, tag = "1")]
    pub retry_after_nanoseconds: u64,
}

/// What an agent is to do.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct ServerToAgentCommand {
    #[prost(enumeration = "CommandType", tag = "1")]
    pub r#type: i32,
}

/// What an agent says of itself and its host.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct AgentDescription {
    #[prost(message, repeated, tag = "1")]
    pub identifying_attributes: Vec<KeyValue>,
    #[prost(message, repeated, tag = "2")]
    pub non_identifying_attributes: Vec<KeyValue>,
}

/// How an agent, or a part of it, is doing.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct ComponentHealth {
    #[prost(bool, tag = "1")]
    pub healthy: bool,
    #[prost(fixed64, tag = "2")]
    pub start_time_unix_nano: u64,
    #[prost(string, tag = "3")]
    pub last_error: String,
    #[prost(string, tag = "4")]
    pub status: String,
    #[prost(fixed64, tag = "5")]
    pub status_time_unix_nano: u64,
    #[prost(map = "string, message", tag = "6")]
    pub component_health_map: HashMap<String, ComponentHealth>,
}

/// What an agent runs by.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct EffectiveConfig {
    #[prost(message, optional, tag = "1")]
    pub config_map: Option<AgentConfigMap>,
}

/// What became of the configuration that an agent was given.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct RemoteConfigStatus {
    #[prost(bytes = "vec", tag = "1")]
    pub last_remote_config_hash: Vec<u8>,
    #[prost(enumeration = "RemoteConfigStatuses", tag = "2")]
    pub status: i32,
    #[prost(string, tag = "3")]
    pub error_message: String,
}

/// What became of packages.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct PackageStatuses {
    #[prost(map = "string, message", tag = "1")]
    pub packages: HashMap<String, PackageStatus>,
    #[prost(bytes = "vec", tag = "2")]
    pub server_provided_all_packages_hash: Vec<u8>,
    #[prost(string, tag = "3")]
    pub error_message: String,
}

/// What became of a package.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct PackageStatus {
    #[prost(string, tag = "1")]
    pub name: String,
    #[prost(string, tag = "2")]
    pub agent_has_version: String,
    #[prost(bytes = "vec", tag = "3")]
    pub agent_has_hash: Vec<u8>,
    #[prost(string, tag = "4")]
    pub server_offered_version: String,
    #[prost(bytes = "vec", tag = "5")]
    pub server_offered_hash: Vec<u8>,
    #[prost(enumeration = "PackageStatusEnum", tag = "6")]
    pub status: i32,
    #[prost(string, tag = "7")]
    pub error_message: String,
    #[prost(message, optional, tag = "8")]
    pub download_details: Option<PackageDownloadDetails>,
}

/// How far a package is fetched.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct PackageDownloadDetails {
    #[prost(double, tag = "1")]
    pub download_percent: f64,
    #[prost(double, tag = "2")]
    pub download_bytes_per_second: f64,
}

/// The identity that an agent is to take.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct AgentIdentification {
    #[prost(bytes = "vec", tag = "1")]
    pub new_instance_uid: Vec<u8>,
}

/// The configuration that an agent is to run by.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct AgentRemoteConfig {
    #[prost(message, optional, tag = "1")]
    pub config: Option<AgentConfigMap>,
    #[prost(bytes = "vec", tag = "2")]
    pub config_hash: Vec<u8>,
}

/// Files of a configuration, by name.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct AgentConfigMap {
    #[prost(map = "string, message", tag = "1")]
    pub config_map: HashMap<String, AgentConfigFile>,
}

/// A file of a configuration.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct AgentConfigFile {
    #[prost(bytes = "vec", tag = "1")]
    pub body: Vec<u8>,
    #[prost(string, tag = "2")]
    pub content_type: String,
}

/// What is understood beyond the protocol, by name.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct CustomCapabilities {
    #[prost(string, repeated, tag = "1")]
    pub capabilities: Vec<String>,
}

/// A message beyond the protocol.
#[allow(missing_docs, reason = "the standard's own names")]
#[derive(Clone, PartialEq, prost::Message)]
pub struct CustomMessage {
    #[prost(string, tag = "1")]
    pub capability: String,
    #[prost(string, tag = "2")]
    pub r#type: String,
    #[prost(bytes = "vec", tag = "3")]
    pub data: Vec<u8>,
}

impl KeyValue {
    /// An attribute that is a text.
    #[must_use]
    pub fn text(key: &str, value: &str) -> KeyValue {
        KeyValue { key: key.to_owned(), value: Some(AnyValue { value: Some(Value::String(value.to_owned())) }) }
    }

    /// An attribute that is a list of texts.
    #[must_use]
    pub fn texts(key: &str, values: &[String]) -> KeyValue {
        let values = values.iter().map(|value| AnyValue { value: Some(Value::String(value.clone())) }).collect();
        KeyValue { key: key.to_owned(), value: Some(AnyValue { value: Some(Value::Array(ArrayValue { values })) }) }
    }
}

/// A message as it goes over WebSocket: a header, which is nought, and the message.
#[must_use]
pub fn framed(message: &impl Message) -> Vec<u8> {
    let mut bytes = vec![0];
    bytes.extend_from_slice(&message.encode_to_vec());
    bytes
}

/// Reads a message as it comes over WebSocket. Older programs send no header; no message begins with a nought.
///
/// # Errors
/// If it is none.
pub fn unframed<M: Message + Default>(bytes: &[u8]) -> Result<M, prost::DecodeError> {
    M::decode(bytes.strip_prefix(&[0]).unwrap_or(bytes))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn messages_are_written_as_the_standard_numbers_their_fields() {
        let description = AgentDescription { identifying_attributes: vec![KeyValue::text("a", "b")], ..AgentDescription::default() };
        let message =
            AgentToServer { instance_uid: vec![7; 2], sequence_num: 3, agent_description: Some(description), capabilities: 0x2001, ..AgentToServer::default() };
        let written = message.encode_to_vec();
        // Field 1, two bytes; field 2; field 3 with field 1 in it, an attribute with key and value, whose text is field 1; field 4.
        assert_eq!(written, [0x0a, 2, 7, 7, 0x10, 3, 0x1a, 0x0a, 0x0a, 8, 0x0a, 1, b'a', 0x12, 3, 0x0a, 1, b'b', 0x20, 0x81, 0x40]);
        assert_eq!(AgentToServer::decode(&*written).unwrap(), message);
        assert_eq!((framed(&message)[0], unframed::<AgentToServer>(&framed(&message)).unwrap()), (0, message.clone()));
        assert_eq!(unframed::<AgentToServer>(&written).unwrap(), message, "without a header");
        assert!(unframed::<AgentToServer>(&[0, 0xff]).is_err());
        let health = ComponentHealth { healthy: true, status_time_unix_nano: 1, ..ComponentHealth::default() };
        assert_eq!(health.encode_to_vec(), [8, 1, 0x29, 1, 0, 0, 0, 0, 0, 0, 0], "times are of a fixed width");
    }
}
