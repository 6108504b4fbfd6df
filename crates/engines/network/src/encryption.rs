//! How much of a server's certificate is checked, as an address says it.

use std::path::PathBuf;

use marktwice_port::{EngineError, Unusable};

/// How much of the server's certificate is checked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Checks {
    /// No encryption.
    Off,
    /// Encrypted, whoever the server may be.
    Unchecked,
    /// Encrypted; chain and name are checked.
    Full,
}

impl Checks {
    /// Reads the value of `tls` (or of the engines' own `sslmode` and `ssl-mode`).
    ///
    /// # Errors
    /// For a mode that is not known, or that would leave it to chance whether the connection is encrypted.
    pub fn read(text: &str) -> Result<Checks, EngineError> {
        match text.to_ascii_lowercase().as_str() {
            "off" | "disable" | "disabled" => Ok(Checks::Off),
            "unchecked" | "require" | "required" => Ok(Checks::Unchecked),
            "verify" | "full" | "verify-full" | "verify-ca" | "verify_ca" | "verify_identity" => {
                Ok(Checks::Full)
            }
            other => Err(EngineError::Unusable(
                Unusable::Address,
                format!("tls={other} is not known; write tls=verify, tls=unchecked or tls=off"),
            )),
        }
    }
}

/// How a connection is encrypted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tls {
    /// What is checked.
    pub checks: Checks,
    /// A file of certificates (PEM) that are trusted besides the well-known ones.
    pub ca: Option<PathBuf>,
}

impl Tls {
    /// What to do about a connection that was refused with these words, as far as encryption may be the reason.
    pub fn hint(&self, said: &str) -> &'static str {
        let lower = said.to_ascii_lowercase();
        if said.contains("CaUsedAsEndEntity") {
            return "; the certificate in ca= is the server's own: it must be the one that signed it, or say ?tls=unchecked";
        }
        if lower.contains("cert") || lower.contains("unknownissuer") {
            return "; name the certificate that signed it with ?ca=FILE";
        }
        match self.checks {
            Checks::Off
                if ["encrypt", "ssl", "secure", "access denied"].iter().any(|w| lower.contains(w)) =>
            {
                "; should the server want encryption, say ?tls=verify, or ?tls=unchecked"
            }
            Checks::Unchecked | Checks::Full if lower.contains("ssl") || lower.contains("tls") => {
                "; the connection would not be encrypted: say ?tls=off if that is meant"
            }
            _ => "",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_may_help() {
        for (checks, said, hint) in [
            (Checks::Off, "no pg_hba.conf entry for host \"::1\", user \"ann\", no encryption", "tls=verify"),
            (Checks::Off, "Access denied for user 'ann'@'localhost'", "tls=verify"),
            (Checks::Full, "Access denied for user 'ann'@'localhost'", ""),
            (Checks::Off, "password authentication failed", ""),
            (Checks::Full, "invalid peer certificate: UnknownIssuer", "ca=FILE"),
            (
                Checks::Full,
                "invalid peer certificate: Other(OtherError(CaUsedAsEndEntity))",
                "the server's own",
            ),
            (Checks::Full, "server does not support TLS", "tls=off"),
        ] {
            let said = Tls { checks, ca: None }.hint(said);
            assert!(said.contains(hint) && (hint.is_empty() == said.is_empty()), "{said} for {hint}");
        }
    }
}
