//! Looks at the way to a server step by step, before any request is sent: name, connection, certificate; and
//! asks the name service which server a domain has for CalDAV (RFC 6764).
//!
//! Opens sockets of its own, and sends nothing of an account over them. Whether a certificate is trusted is not
//! decided here: the requests that follow decide that.

use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use jiff::Timestamp;
use rustls::DigitallySignedStruct;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use simple_dns::rdata::RData;
use simple_dns::{CLASS, Name, Packet, PacketFlag, QCLASS, QTYPE, Question, TYPE};
use tokio::net::{TcpStream, UdpSocket, lookup_host};
use tokio::time::timeout;
use x509_parser::prelude::{FromDer as _, GeneralName, X509Certificate};

use crate::error::{Detail, TransportError, TransportFault};

/// What a server shows of itself when a connection is encrypted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CertificateFacts {
    /// Such as `TLS 1.3`.
    pub protocol: String,
    /// The names it is made out to; untrusted text.
    pub names: Vec<String>,
    /// Who signed it; untrusted text.
    pub issuer: String,
    /// From when it is valid.
    pub from: Timestamp,
    /// Until when it is valid.
    pub until: Timestamp,
}

/// Where a domain has its CalDAV server, as the name service says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ServiceRecord {
    /// The host.
    pub host: String,
    /// The port.
    pub port: u16,
    /// The path where to begin, from a TXT record.
    pub path: String,
    /// Whether it is encrypted (`_caldavs`).
    pub tls: bool,
}

/// Finds the addresses of a host.
///
/// # Errors
/// The name is unknown, or nobody answers.
pub async fn resolve(host: &str, port: u16, limit: Duration) -> Result<Vec<SocketAddr>, TransportError> {
    let failed = |detail: Detail| TransportError::new(TransportFault::Resolve, host, detail);
    let found = timeout(limit, lookup_host((host.trim_matches(['[', ']']), port))).await;
    let found: Vec<_> = match found {
        Ok(Ok(found)) => found.collect(),
        Ok(Err(error)) => return Err(failed(error.to_string().into())),
        Err(_) => return Err(failed(Detail::NameServiceSilent)),
    };
    if found.is_empty() { Err(failed(Detail::NoAddress)) } else { Ok(found) }
}

/// Connects to the first address that answers.
///
/// # Errors
/// Nothing answers at any of them.
pub async fn connect(
    host: &str,
    addresses: &[SocketAddr],
    limit: Duration,
) -> Result<TcpStream, TransportError> {
    let mut last = TransportError::new(TransportFault::Connect, host, Detail::NoAddress);
    for address in addresses {
        last = match timeout(limit, TcpStream::connect(address)).await {
            Ok(Ok(stream)) => return Ok(stream),
            Ok(Err(error)) => {
                TransportError::new(TransportFault::Connect, address.to_string(), error.to_string())
            }
            Err(_) => TransportError::new(TransportFault::Timeout, address.to_string(), Detail::Nothing),
        };
    }
    Err(last)
}

/// Encrypts a connection to see the server's certificate. Nothing is sent over it, so any certificate will do.
///
/// # Errors
/// No encrypted connection comes about.
pub async fn look_at_certificate(
    host: &str,
    stream: TcpStream,
    limit: Duration,
) -> Result<CertificateFacts, TransportError> {
    let failed = |detail: Detail| TransportError::new(TransportFault::Tls, host, detail);
    let looker = Arc::new(Looker { provider: ring::default_provider(), seen: Mutex::default() });
    let config = rustls::ClientConfig::builder_with_provider(Arc::new(ring::default_provider()))
        .with_safe_default_protocol_versions()
        .map_err(|e| failed(e.to_string().into()))?
        .dangerous()
        .with_custom_certificate_verifier(Arc::<Looker>::clone(&looker))
        .with_no_client_auth();
    let name = ServerName::try_from(host.trim_matches(['[', ']']).to_owned())
        .map_err(|e| failed(e.to_string().into()))?;
    let connector = tokio_rustls::TlsConnector::from(Arc::new(config));
    let handshake = timeout(limit, connector.connect(name, stream)).await;
    let stream = match handshake {
        Ok(Ok(stream)) => stream,
        Ok(Err(error)) => return Err(failed(error.to_string().into())),
        Err(_) => return Err(TransportError::new(TransportFault::Timeout, host, Detail::Nothing)),
    };
    let protocol = match stream.get_ref().1.protocol_version() {
        Some(rustls::ProtocolVersion::TLSv1_3) => "TLS 1.3",
        Some(rustls::ProtocolVersion::TLSv1_2) => "TLS 1.2",
        _ => "TLS",
    };
    let seen = looker.seen.lock().unwrap_or_else(PoisonError::into_inner).take();
    let seen = seen.ok_or_else(|| failed(Detail::NoCertificate))?;
    facts_of(&seen, protocol).ok_or_else(|| failed(Detail::UnreadableCertificate))
}

fn facts_of(certificate: &CertificateDer<'_>, protocol: &str) -> Option<CertificateFacts> {
    let (_, parsed) = X509Certificate::from_der(certificate).ok()?;
    let alternative = parsed.subject_alternative_name().ok().flatten();
    let mut names: Vec<String> = alternative
        .iter()
        .flat_map(|names| &names.value.general_names)
        .filter_map(|name| match name {
            GeneralName::DNSName(name) => Some((*name).to_owned()),
            GeneralName::IPAddress(bytes) => address_text(bytes),
            _ => None,
        })
        .collect();
    let common = |name: &x509_parser::x509::X509Name<'_>| {
        let part = name.iter_common_name().chain(name.iter_organization()).next();
        part.and_then(|p| p.as_str().ok()).map(str::to_owned)
    };
    if names.is_empty() {
        names.extend(common(parsed.subject()));
    }
    let moment = |at: x509_parser::time::ASN1Time| Timestamp::from_second(at.timestamp()).ok();
    Some(CertificateFacts {
        protocol: protocol.to_owned(),
        names,
        issuer: common(parsed.issuer()).unwrap_or_else(|| parsed.issuer().to_string()),
        from: moment(parsed.validity().not_before)?,
        until: moment(parsed.validity().not_after)?,
    })
}

fn address_text(bytes: &[u8]) -> Option<String> {
    let four = <[u8; 4]>::try_from(bytes).map(IpAddr::from);
    four.or_else(|_| <[u8; 16]>::try_from(bytes).map(IpAddr::from)).ok().map(|ip| ip.to_string())
}

/// Takes any certificate, and remembers it.
#[derive(Debug)]
struct Looker {
    provider: CryptoProvider,
    seen: Mutex<Option<CertificateDer<'static>>>,
}

impl ServerCertVerifier for Looker {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        *self.seen.lock().unwrap_or_else(PoisonError::into_inner) = Some(end_entity.clone().into_owned());
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(message, certificate, signed, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(message, certificate, signed, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<rustls::SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}

/// Asks a name service where a domain has its CalDAV server (RFC 6764, 3 to 5): encrypted first. `None` where it
/// does not say, or does not answer.
pub async fn find_service(domain: &str, resolver: SocketAddr, limit: Duration) -> Option<ServiceRecord> {
    for (service, tls) in [("_caldavs", true), ("_caldav", false)] {
        let name = format!("{service}._tcp.{domain}");
        let answer = ask(&name, TYPE::SRV, resolver, limit).await?;
        let Some((host, port)) = best_service(&answer) else { continue };
        let texts = ask(&name, TYPE::TXT, resolver, limit).await.map(|answer| paths(&answer));
        let path =
            texts.and_then(|paths| paths.into_iter().next()).unwrap_or_else(|| "/.well-known/caldav".into());
        return Some(ServiceRecord { host, port, path, tls });
    }
    None
}

/// Sends one question over UDP, twice if need be, and returns the bytes of the answer.
async fn ask(name: &str, kind: TYPE, resolver: SocketAddr, limit: Duration) -> Option<Vec<u8>> {
    // The answer must come from the address that was asked; its number need only differ from the last one.
    let id = (name.len() as u16) << 8 | u16::from(kind == TYPE::TXT);
    let mut question = Packet::new_query(id);
    question.set_flags(PacketFlag::RECURSION_DESIRED);
    let class = QCLASS::CLASS(CLASS::IN);
    question.questions.push(Question::new(Name::new(name).ok()?, QTYPE::TYPE(kind), class, false));
    let question = question.build_bytes_vec().ok()?;
    let any: SocketAddr = if resolver.is_ipv4() { ([0, 0, 0, 0], 0).into() } else { ([0u16; 8], 0).into() };
    let socket = UdpSocket::bind(any).await.ok()?;
    socket.connect(resolver).await.ok()?;
    let mut bytes = vec![0; 4096];
    for _ in 0..2 {
        socket.send(&question).await.ok()?;
        if let Ok(Ok(length)) = timeout(limit, socket.recv(&mut bytes)).await {
            let answers = Packet::parse(&bytes[..length]).is_ok_and(|packet| packet.id() == id);
            if answers {
                bytes.truncate(length);
                return Some(bytes);
            }
        }
    }
    None
}

/// The record with the lowest priority, and among those the greatest weight (RFC 2782).
fn best_service(answer: &[u8]) -> Option<(String, u16)> {
    let packet = Packet::parse(answer).ok()?;
    let records = packet.answers.iter().filter_map(|record| match &record.rdata {
        RData::SRV(srv) => {
            Some((srv.priority, std::cmp::Reverse(srv.weight), srv.target.to_string(), srv.port))
        }
        _ => None,
    });
    let (_, _, host, port) = records.min()?;
    let host = host.trim_end_matches('.').to_owned();
    // A single dot says that there is decidedly no such service.
    (!host.is_empty()).then_some((host, port))
}

/// `path=/calendars/` (RFC 6764, 4).
fn paths(answer: &[u8]) -> Vec<String> {
    let Ok(packet) = Packet::parse(answer) else { return Vec::new() };
    let texts = packet.answers.iter().filter_map(|record| match &record.rdata {
        RData::TXT(text) => Some(text.attributes()),
        _ => None,
    });
    texts
        .filter_map(|mut pairs| pairs.remove("path").flatten())
        .filter(|path| path.starts_with('/'))
        .collect()
}
