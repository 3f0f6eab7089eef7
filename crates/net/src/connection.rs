//! A byte stream to a device, plain or through TLS, and how a certificate is judged.

use sha2::{Digest as _, Sha256};
use std::io;
use std::pin::Pin;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::task::{Context, Poll};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio_rustls::client::TlsStream;
use tokio_rustls::rustls::client::WebPkiServerVerifier;
use tokio_rustls::rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use tokio_rustls::rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use tokio_rustls::rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use tokio_rustls::rustls::{ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme};
use tokio_rustls::{TlsConnector, rustls};

/// SHA-256 of a certificate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Fingerprint(pub [u8; 32]);

impl std::fmt::Display for Fingerprint {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.0.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
    }
}

impl std::str::FromStr for Fingerprint {
    type Err = ();

    fn from_str(text: &str) -> Result<Self, ()> {
        let digits: Vec<u8> = text.bytes().filter(|b| *b != b':').collect();
        let byte = |pair: &[u8]| std::str::from_utf8(pair).ok().and_then(|pair| u8::from_str_radix(pair, 16).ok()).ok_or(());
        let bytes: Vec<u8> = digits.chunks(2).map(byte).collect::<Result<_, ()>>()?;
        bytes.try_into().map(Self).map_err(|_| ())
    }
}

/// How a device's certificate is judged.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Trust {
    /// By the authorities that this machine trusts, and by name.
    #[default]
    Verify,
    /// It must be this one, whoever signed it.
    Pinned(Fingerprint),
    /// Not at all: the operator's explicit choice for one camera.
    Off,
}

/// A connection to a device.
pub(crate) enum Connection {
    /// In the clear.
    Plain(TcpStream),
    /// Through TLS.
    Tls(Box<TlsStream<TcpStream>>),
}

impl Connection {
    /// The TCP connection underneath.
    pub fn tcp(&self) -> &TcpStream {
        match self {
            Self::Plain(stream) => stream,
            Self::Tls(stream) => stream.get_ref().0,
        }
    }
}

impl AsyncRead for Connection {
    fn poll_read(self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Self::Plain(stream) => Pin::new(stream).poll_read(cx, buf),
            Self::Tls(stream) => Pin::new(stream.as_mut()).poll_read(cx, buf),
        }
    }
}

impl AsyncWrite for Connection {
    fn poll_write(self: Pin<&mut Self>, cx: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        match self.get_mut() {
            Self::Plain(stream) => Pin::new(stream).poll_write(cx, bytes),
            Self::Tls(stream) => Pin::new(stream.as_mut()).poll_write(cx, bytes),
        }
    }

    fn poll_flush(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Self::Plain(stream) => Pin::new(stream).poll_flush(cx),
            Self::Tls(stream) => Pin::new(stream.as_mut()).poll_flush(cx),
        }
    }

    fn poll_shutdown(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Self::Plain(stream) => Pin::new(stream).poll_shutdown(cx),
            Self::Tls(stream) => Pin::new(stream.as_mut()).poll_shutdown(cx),
        }
    }
}

/// Why TLS was not agreed.
#[derive(Debug, thiserror::Error)]
pub enum TlsError {
    /// The certificate is not trusted.
    #[error("the certificate (SHA-256 {fingerprint}) is not trusted: {why}")]
    Certificate {
        /// Which it was.
        fingerprint: Fingerprint,
        /// Why not.
        why: String,
    },
    /// What answers does not speak TLS, or not a version that is known here.
    #[error("TLS was not agreed: {0}")]
    Handshake(String),
}

/// Begins TLS on a connection.
///
/// # Errors
/// [`TlsError`], with the fingerprint where the certificate was the reason.
pub(crate) async fn tls(stream: TcpStream, host: &str, trust: Trust) -> Result<Connection, TlsError> {
    let seen = Arc::new(Mutex::new(None));
    let provider = Arc::new(ring::default_provider());
    let verifier = Verifier { trust, seen: seen.clone(), provider: provider.clone() };
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|error| TlsError::Handshake(error.to_string()))?
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(verifier))
        .with_no_client_auth();
    let name =
        ServerName::try_from(host.to_owned()).map_err(|_| TlsError::Handshake(format!("{host} is no name for a certificate")))?;
    match TlsConnector::from(Arc::new(config)).connect(name, stream).await {
        Ok(stream) => Ok(Connection::Tls(Box::new(stream))),
        Err(error) => {
            let seen = *seen.lock().unwrap_or_else(PoisonError::into_inner);
            let why = error.get_ref().and_then(|inner| inner.downcast_ref::<Error>());
            match (why, seen) {
                (Some(Error::InvalidCertificate(why)), Some(fingerprint)) => {
                    Err(TlsError::Certificate { fingerprint, why: certificate_words(why) })
                }
                (Some(Error::General(why)), Some(fingerprint)) => Err(TlsError::Certificate { fingerprint, why: why.clone() }),
                (Some(other), _) => Err(TlsError::Handshake(handshake_words(other))),
                (None, _) => Err(TlsError::Handshake(crate::connect::plain(&error))),
            }
        }
    }
}

fn certificate_words(error: &rustls::CertificateError) -> String {
    use rustls::CertificateError as E;
    match error {
        E::Expired | E::ExpiredContext { .. } => "it has expired (or this machine's clock is wrong)".into(),
        E::NotValidYet | E::NotValidYetContext { .. } => "it is not valid yet (is this machine's clock right?)".into(),
        E::UnknownIssuer => "nobody whom this machine trusts signed it, as is usual for a camera".into(),
        E::NotValidForName | E::NotValidForNameContext { .. } => "it is for another name".into(),
        other => other.to_string(),
    }
}

fn handshake_words(error: &Error) -> String {
    match error {
        Error::InvalidMessage(_) => "what answers does not speak TLS".into(),
        other => other.to_string(),
    }
}

/// The authorities that this machine trusts, read once.
fn authorities() -> Arc<RootCertStore> {
    static STORE: OnceLock<Arc<RootCertStore>> = OnceLock::new();
    STORE
        .get_or_init(|| {
            let mut store = RootCertStore::empty();
            for certificate in rustls_native_certs::load_native_certs().certs {
                let _ = store.add(certificate); // one that cannot be read vouches for nobody
            }
            Arc::new(store)
        })
        .clone()
}

#[derive(Debug)]
struct Verifier {
    trust: Trust,
    seen: Arc<Mutex<Option<Fingerprint>>>,
    provider: Arc<CryptoProvider>,
}

impl ServerCertVerifier for Verifier {
    fn verify_server_cert(
        &self,
        certificate: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let fingerprint = Fingerprint(Sha256::digest(certificate.as_ref()).into());
        *self.seen.lock().unwrap_or_else(PoisonError::into_inner) = Some(fingerprint);
        match self.trust {
            Trust::Off => Ok(ServerCertVerified::assertion()),
            Trust::Pinned(pinned) if pinned == fingerprint => Ok(ServerCertVerified::assertion()),
            Trust::Pinned(_) => Err(Error::General("it is another one than the certificate that was pinned".into())),
            Trust::Verify => {
                let store = authorities();
                if store.is_empty() {
                    return Err(Error::InvalidCertificate(rustls::CertificateError::UnknownIssuer));
                }
                let verifier = WebPkiServerVerifier::builder_with_provider(store, self.provider.clone())
                    .build()
                    .map_err(|error| Error::General(error.to_string()))?;
                verifier.verify_server_cert(certificate, intermediates, name, ocsp, now)
            }
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, certificate, signature, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, certificate, signature, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}
