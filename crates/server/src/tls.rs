//! TLS for the listeners: a certificate and its key from files, read again when these change.

use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::{Duration, SystemTime};

use rustls::ServerConfig;
use rustls::crypto::ring;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;

use crate::supervision::{Supervisor, Waiting};

/// How often it is looked whether the certificate's files changed.
const CERTIFICATE_EVERY: Duration = Duration::from_secs(10);

/// Where the certificate and its key are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Certificate {
    /// A PEM file: the certificate, and those that vouch for it, in their order.
    pub chain: PathBuf,
    /// A PEM file with its private key.
    pub key: PathBuf,
}

impl Certificate {
    /// Whether both can be read and belong together.
    ///
    /// # Errors
    /// A sentence that names the option and the file.
    pub fn check(&self) -> Result<(), String> {
        self.read().map(|_key| ())
    }

    fn read(&self) -> Result<CertifiedKey, String> {
        let of_cert = |error: String| format!("--tls-cert {}: {error}", self.chain.display());
        let of_key = |error: String| format!("--tls-key {}: {error}", self.key.display());
        let chain = CertificateDer::pem_file_iter(&self.chain).map_err(|error| of_cert(error.to_string()))?;
        let chain: Vec<CertificateDer<'static>> = chain
            .collect::<Result<_, _>>()
            .map_err(|error| of_cert(error.to_string()))?;
        if chain.is_empty() {
            return Err(of_cert("it holds no certificate in PEM form".to_owned()));
        }
        let key = PrivateKeyDer::from_pem_file(&self.key).map_err(|error| of_key(error.to_string()))?;
        let certified = CertifiedKey::from_der(chain, key, &ring::default_provider())
            .map_err(|error| of_key(format!("{error}; is it the key of {}?", self.chain.display())))?;
        Ok(certified)
    }

    /// When the files were changed last; nothing of one that is not there.
    fn changed(&self) -> [Option<SystemTime>; 2] {
        let of = |path: &Path| std::fs::metadata(path).and_then(|data| data.modified()).ok();
        [of(&self.chain), of(&self.key)]
    }
}

/// The certificate in use.
#[derive(Debug)]
pub(crate) struct Presented {
    of: Certificate,
    key: RwLock<(Arc<CertifiedKey>, [Option<SystemTime>; 2])>,
}

impl Presented {
    /// Reads it.
    ///
    /// # Errors
    /// As [`Certificate::check`].
    pub(crate) fn new(of: &Certificate) -> Result<Arc<Self>, String> {
        let changed = of.changed();
        let key = RwLock::new((Arc::new(of.read()?), changed));
        Ok(Arc::new(Self { of: of.clone(), key }))
    }

    /// Reads it again where the files changed since; whether it is another one now. One that cannot be used leaves the one
    /// in use, and is read again the next time.
    ///
    /// # Errors
    /// As [`Certificate::check`].
    pub(crate) fn follow(&self) -> Result<bool, String> {
        let changed = self.of.changed();
        if self.key.read().unwrap_or_else(PoisonError::into_inner).1 == changed {
            return Ok(false);
        }
        let key = Arc::new(self.of.read()?);
        *self.key.write().unwrap_or_else(PoisonError::into_inner) = (key, changed);
        Ok(true)
    }

    /// What a listener of these protocols (ALPN, RFC 7301) is set up with: TLS 1.2 and 1.3.
    ///
    /// # Errors
    /// Never with the versions of this release of rustls.
    pub(crate) fn config(self: &Arc<Self>, protocols: &[&str]) -> Result<ServerConfig, std::io::Error> {
        let builder = ServerConfig::builder_with_provider(Arc::new(ring::default_provider()))
            .with_safe_default_protocol_versions()
            .map_err(std::io::Error::other)?;
        let mut config = builder.with_no_client_auth().with_cert_resolver(self.clone());
        config.alpn_protocols = protocols.iter().map(|name| name.as_bytes().to_vec()).collect();
        Ok(config)
    }
}

impl ResolvesServerCert for Presented {
    fn resolve(&self, _hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(self.key.read().unwrap_or_else(PoisonError::into_inner).0.clone())
    }
}

/// The certificate of the listeners, where there is one; it is read again when its files change.
///
/// # Errors
/// Where it cannot be used, as [`Certificate::check`] says.
pub(crate) fn presented(
    certificate: Option<&Certificate>,
    supervisor: &Supervisor,
) -> Result<Option<Arc<Presented>>, std::io::Error> {
    let Some(certificate) = certificate else {
        return Ok(None);
    };
    let presented = Presented::new(certificate).map_err(std::io::Error::other)?;
    let followed = presented.clone();
    supervisor.run("certificate", CERTIFICATE_EVERY, move || {
        std::future::ready(Ok(follow(&followed)))
    });
    Ok(Some(presented))
}

fn follow(presented: &Presented) -> Waiting {
    match presented.follow() {
        Ok(true) => tracing::info!("the certificate of the listeners is another one now"),
        Ok(false) => {}
        Err(error) => tracing::warn!(%error, "the certificate changed and cannot be used; the one before stays in use"),
    }
    CERTIFICATE_EVERY
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A certificate of a name and its key, written into a folder.
    fn written(folder: &Path, name: &str) -> Certificate {
        let made = rcgen::generate_simple_self_signed([name.to_owned()]).unwrap();
        let of = Certificate {
            chain: folder.join("cert.pem"),
            key: folder.join("key.pem"),
        };
        std::fs::write(&of.chain, made.cert.pem()).unwrap();
        std::fs::write(&of.key, made.signing_key.serialize_pem()).unwrap();
        of
    }

    fn first(of: &Presented) -> Vec<u8> {
        of.key.read().unwrap().0.cert[0].to_vec()
    }

    #[test]
    fn a_changed_certificate_is_taken_up_and_a_broken_one_is_not() {
        let folder = tempfile::tempdir().unwrap();
        let of = written(folder.path(), "outcrop.skerry.example");
        let presented = Presented::new(&of).unwrap();
        let before = first(&presented);
        assert_eq!(presented.follow(), Ok(false));
        std::thread::sleep(Duration::from_millis(20));
        written(folder.path(), "outcrop.skerry.example");
        assert_eq!(presented.follow(), Ok(true));
        let after = first(&presented);
        assert_ne!(after, before);
        std::thread::sleep(Duration::from_millis(20));
        std::fs::write(&of.key, "half a key").unwrap();
        let why = presented.follow().unwrap_err();
        assert!(why.starts_with("--tls-key"), "{why}");
        assert_eq!(first(&presented), after);
        assert!(presented.config(&["h2"]).is_ok());
    }

    #[test]
    fn files_that_are_missing_empty_or_of_another_key_are_named() {
        let (folder, other) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        let of = written(folder.path(), "outcrop.skerry.example");
        let foreign = written(other.path(), "outcrop.skerry.example");
        let of_two = Certificate {
            key: foreign.key,
            ..of.clone()
        };
        let why = of_two.check().unwrap_err();
        assert!(why.contains("is it the key of"), "{why}");
        std::fs::write(&of.chain, "").unwrap();
        assert!(of.check().unwrap_err().contains("holds no certificate"));
        std::fs::remove_file(&of.chain).unwrap();
        assert!(of.check().unwrap_err().starts_with("--tls-cert"));
    }
}
