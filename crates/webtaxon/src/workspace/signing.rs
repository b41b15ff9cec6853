//! Sign-ins by the settings of a workspace.

use super::Workspace;
use crate::error::Error;
use crate::sign_in::{AuditFile, AuditLine, SignIns};
use std::path::{Path, PathBuf};
use std::sync::Arc;

impl SignIns {
    /// Sign-ins by the settings and the store of a workspace. The service accounts' passwords are fetched once; nothing is
    /// connected to yet.
    ///
    /// # Errors
    /// The source of a service account's password is missing or empty.
    pub async fn open(workspace: &Workspace) -> Result<Self, Error> {
        Self::new(Arc::clone(&workspace.setup)).await
    }
}

impl Workspace {
    /// The file in which sign-ins are recorded.
    #[must_use]
    pub fn audit_file(&self) -> PathBuf {
        self.audit().path().to_owned()
    }

    /// Every recorded sign-in, the oldest first, and the number of lines that cannot be read.
    ///
    /// # Errors
    /// A file cannot be read.
    pub fn recorded_sign_ins(&self, take: impl FnMut(AuditLine)) -> Result<usize, Error> {
        let audit = self.audit();
        let failed = |source| Error::NoAudit { file: audit.path().to_owned(), source };
        audit.read(take).map_err(failed)
    }

    fn audit(&self) -> AuditFile {
        let folder: &Path = &self.setup.folder;
        AuditFile::new(&self.setup.settings.sign_in.audit, folder)
    }
}
