//! The key file.

use std::io::Write;
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::Path;

use sha2::{Digest, Sha256};

use crate::RecordsError;

/// 32 random bytes, kept in a file that only its owner may read.
pub(crate) struct Key([u8; 32]);

impl Key {
    /// Reads the key, or makes one if there are no records yet that an older key would have sealed.
    pub(crate) fn open(path: &Path, records_exist: bool) -> Result<Key, RecordsError> {
        let fail = |what: String| RecordsError::Key(format!("{} {what}", path.display()));
        match std::fs::read(path) {
            Ok(bytes) => {
                let mode = std::fs::metadata(path).map_err(|e| fail(format!("cannot be looked at: {e}")))?.mode();
                if mode & 0o077 != 0 {
                    return Err(fail(format!("can be read by others (mode {:o}); set it to 600", mode & 0o777)));
                }
                bytes.try_into().map(Key).map_err(|_| fail("does not hold 32 bytes".into()))
            }
            Err(e) if e.kind() == std::io::ErrorKind::NotFound && !records_exist => {
                let mut bytes = [0; 32];
                getrandom::fill(&mut bytes).map_err(|e| fail(format!("cannot be made: {e}")))?;
                let made = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path);
                made.and_then(|mut f| f.write_all(&bytes).and_then(|()| f.sync_all())).map_err(|e| fail(format!("cannot be written: {e}")))?;
                Ok(Key(bytes))
            }
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Err(fail("is missing; the kept secrets cannot be opened without it".into())),
            Err(e) => Err(fail(format!("cannot be read: {e}"))),
        }
    }

    /// A key for one purpose.
    pub(crate) fn derive(&self, purpose: &str) -> [u8; 32] {
        let mut hash = Sha256::new();
        hash.update(self.0);
        hash.update(purpose.as_bytes());
        hash.finalize().into()
    }
}
