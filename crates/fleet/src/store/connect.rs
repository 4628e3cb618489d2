//! Connects to a server of PostgreSQL, by the conventions of its own clients: TLS by `sslmode` and `sslrootcert`, the
//! password from the URL, the environment, or a password file.
//!
//! `sslmode=prefer`, the default, encrypts where the server can, and verifies nothing; `require`, `verify-ca` and
//! `verify-full` refuse a server whose certificate none of the root certificates vouches for.

use std::sync::Arc;

use postgres::config::{Host, SslMode};
use postgres::{Client, Config, NoTls};
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};
use tokio_postgres_rustls::MakeRustlsConnect;
use whodunit_core::bytes::ByteString;
use whodunit_core::fs::{Limit, Root};

/// What the environment says about connections.
#[derive(Debug, Clone, Default)]
pub struct Access {
    /// The password (`PGPASSWORD`).
    pub password: Option<ByteString>,
    /// The password file (`PGPASSFILE`, or `~/.pgpass`).
    pub password_file: Option<ByteString>,
    /// A file with root certificates (`PGSSLROOTCERT`); those of the system where there is none.
    pub root_certificates: Option<ByteString>,
}

/// What an error says, with its cause.
pub(super) fn told(error: &dyn std::error::Error) -> String {
    let detail = error.source().map(|source| format!(": {source}")).unwrap_or_default();
    format!("{error}{detail}")
}

/// Connects.
pub(super) fn connect(url: &str, access: &Access) -> Result<Client, String> {
    let (url, options) = without_options(url);
    let mut config: Config = url.parse().map_err(|error: postgres::Error| told(&error))?;
    let is_verified = match options.mode.as_deref() {
        Some("require" | "verify-ca" | "verify-full") => {
            config.ssl_mode(SslMode::Require);
            true
        }
        Some("disable") => {
            config.ssl_mode(SslMode::Disable);
            false
        }
        Some("prefer" | "allow") | None => false,
        Some(other) => return Err(format!("there is no sslmode {other}")),
    };
    if config.get_password().is_none() {
        if let Some(password) = &access.password {
            config.password(&**password);
        } else if let Some(password) = access.password_file.as_ref().and_then(|file| from_file(file, &config)) {
            config.password(password);
        }
    }
    let is_socket = config.get_hosts().iter().all(|host| matches!(host, Host::Unix(_)));
    if is_socket || config.get_ssl_mode() == SslMode::Disable {
        return config.connect(NoTls).map_err(|error| told(&error));
    }
    let roots = options.roots.map(ByteString::from).or_else(|| access.root_certificates.clone());
    let tls = MakeRustlsConnect::new(tls(is_verified, roots.as_ref())?);
    config.connect(tls).map_err(|error| told(&error))
}

/// The options of TLS in a URL, which its parser does not know all of.
#[derive(Debug, Default, PartialEq, Eq)]
struct Options {
    mode: Option<String>,
    roots: Option<String>,
}

/// A URL without its options of TLS, and these.
fn without_options(url: &str) -> (String, Options) {
    let Some((address, query)) = url.split_once('?') else { return (url.to_owned(), Options::default()) };
    let (mut options, mut kept) = (Options::default(), Vec::new());
    for pair in query.split('&') {
        let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
        let value = percent_encoding::percent_decode_str(value).decode_utf8_lossy().into_owned();
        match name {
            "sslmode" => options.mode = Some(value),
            "sslrootcert" => options.roots = Some(value),
            _ => kept.push(pair),
        }
    }
    let query = if kept.is_empty() { String::new() } else { format!("?{}", kept.join("&")) };
    (address.to_owned() + &query, options)
}

/// The password that a password file has for a connection: the first line that fits. A file that others may read does not
/// count, as in the server's own clients.
fn from_file(file: &ByteString, config: &Config) -> Option<Vec<u8>> {
    let root = Root::live();
    let is_private = root.target(file).is_ok_and(|meta| meta.mode & 0o077 == 0);
    let content = root.read(file, Limit::SMALL).ok().filter(|_| is_private)?;
    let host = match config.get_hosts().first()? {
        Host::Tcp(host) => host.clone(),
        Host::Unix(_) => "localhost".to_owned(),
    };
    let port = config.get_ports().first().copied().unwrap_or(5432).to_string();
    let user = config.get_user()?;
    let wanted = [host.as_str(), &port, config.get_dbname().unwrap_or(user), user];
    let mut lines = content.split(|&b| b == b'\n').filter(|line| !line.starts_with(b"#"));
    lines.find_map(|line| {
        let fields = fields(line.strip_suffix(b"\r").unwrap_or(line));
        let (password, keys) = fields.split_last()?;
        let fits = |(key, wanted): (&Vec<u8>, &str)| key == b"*" || key == wanted.as_bytes();
        (keys.len() == 4 && keys.iter().zip(wanted).all(fits)).then(|| password.clone())
    })
}

/// The fields of a line: between colons, where a backslash takes the next byte as it is.
fn fields(line: &[u8]) -> Vec<Vec<u8>> {
    let (mut fields, mut field) = (Vec::new(), Vec::new());
    let mut bytes = line.iter();
    while let Some(&byte) = bytes.next() {
        match byte {
            b':' if fields.len() < 4 => fields.push(std::mem::take(&mut field)),
            b'\\' => field.extend(bytes.next()),
            _ => field.push(byte),
        }
    }
    fields.push(field);
    fields
}

/// How a connection is encrypted.
fn tls(is_verified: bool, roots: Option<&ByteString>) -> Result<ClientConfig, String> {
    let provider = Arc::new(ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider.clone())
        .with_safe_default_protocol_versions()
        .map_err(|error| error.to_string())?;
    if !is_verified {
        let anybody = Arc::new(Anybody(provider));
        return Ok(builder.dangerous().with_custom_certificate_verifier(anybody).with_no_client_auth());
    }
    let mut store = RootCertStore::empty();
    match roots {
        None => {
            store.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        }
        Some(file) => {
            let content =
                Root::live().read(file, Limit::SMALL).map_err(|error| format!("{file}: {}", error.reason()))?;
            for one in CertificateDer::pem_slice_iter(&content) {
                let one = one.map_err(|error| format!("{file}: {error}"))?;
                store.add(one).map_err(|error| format!("{file}: {error}"))?;
            }
        }
    }
    Ok(builder.with_root_certificates(store).with_no_client_auth())
}

/// Takes any certificate: encryption without knowing with whom.
#[derive(Debug)]
struct Anybody(Arc<CryptoProvider>);

impl ServerCertVerifier for Anybody {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(message, certificate, signed, &self.0.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(message, certificate, signed, &self.0.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn options_of_tls_are_taken_from_a_url() {
        for (url, rest, mode, roots) in [
            ("postgresql://keeper@/fleet", "postgresql://keeper@/fleet", None, None),
            ("postgresql://h/f?sslmode=require", "postgresql://h/f", Some("require"), None),
            (
                "postgresql://h/f?sslmode=verify-full&connect_timeout=5&sslrootcert=/etc/our%20root.pem",
                "postgresql://h/f?connect_timeout=5",
                Some("verify-full"),
                Some("/etc/our root.pem"),
            ),
        ] {
            let expected = Options { mode: mode.map(str::to_owned), roots: roots.map(str::to_owned) };
            assert_eq!(without_options(url), (rest.to_owned(), expected), "{url}");
        }
    }

    #[test]
    fn fields_of_a_password_file_may_have_colons() {
        let all = |line: &str| -> Vec<String> {
            fields(line.as_bytes()).into_iter().map(|field| String::from_utf8(field).unwrap()).collect()
        };
        assert_eq!(
            all("db.harbour.example:5432:fleet:keeper:tide"),
            ["db.harbour.example", "5432", "fleet", "keeper", "tide"]
        );
        assert_eq!(all(r"\:\:1:*:*:*:a\:b\\c:d"), ["::1", "*", "*", "*", r"a:b\c:d"]);
        assert_eq!(all("too:few"), ["too", "few"]);
    }
}
