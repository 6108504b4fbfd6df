//! Encrypted connections. For a host that is not this machine the server's certificate is checked, chain and name,
//! unless the address says otherwise.

use std::sync::Arc;

use marktwice_port::EngineError;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};

use crate::encryption::{Checks, Tls};

impl Tls {
    /// The library's configuration; `None` without encryption.
    ///
    /// # Errors
    /// When the file of certificates cannot be read.
    pub fn config(&self) -> Result<Option<ClientConfig>, EngineError> {
        let provider = Arc::new(ring::default_provider());
        let builder = ClientConfig::builder_with_provider(Arc::clone(&provider))
            .with_safe_default_protocol_versions()
            .map_err(|e| EngineError::Other(format!("encryption cannot be set up: {e}")))?;
        match self.checks {
            Checks::Off => Ok(None),
            Checks::Unchecked => {
                let any = Arc::new(Anybody(provider));
                Ok(Some(builder.dangerous().with_custom_certificate_verifier(any).with_no_client_auth()))
            }
            Checks::Full => {
                let mut roots = RootCertStore { roots: webpki_roots::TLS_SERVER_ROOTS.to_vec() };
                if let Some(path) = &self.ca {
                    let failed = |what: String| {
                        EngineError::Other(format!("the certificates in {}: {what}", path.display()))
                    };
                    let all = CertificateDer::pem_file_iter(path).map_err(|e| failed(e.to_string()))?;
                    let mut none = true;
                    for certificate in all {
                        none = false;
                        let certificate = certificate.map_err(|e| failed(e.to_string()))?;
                        roots.add(certificate).map_err(|e| failed(e.to_string()))?;
                    }
                    if none {
                        return Err(failed("there is none in it: it must hold one in PEM form".to_owned()));
                    }
                }
                Ok(Some(builder.with_root_certificates(roots).with_no_client_auth()))
            }
        }
    }
}

/// Takes any certificate: for `tls=unchecked`, which the user asked for by name.
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
