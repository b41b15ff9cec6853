//! The bind (RFC 4513 §5): why it was refused, and the identity that the server assumes.

use super::connection::Connection;
use crate::directory::{DirectoryError, DirectoryErrorKind};
use crate::secure::SecureError;
use secrecy::{ExposeSecret, SecretString};
use std::fmt;
use webtaxon_core::settings::{Bind, Directory};
use webtaxon_wire::control::{PASSWORD_POLICY, PasswordState, WHO_AM_I, password_policy, password_state};
use webtaxon_wire::message::{LdapResult, ResultCode};

/// A domain controller's sub-code after "data" in a refused bind ([MS-ADTS] §5.1.1.1; system error codes of
/// [MS-ERREF] §2.2 in hexadecimal).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum SubCode {
    /// The name does not exist.
    NoSuchName,
    /// The password or the name is wrong.
    WrongPassword,
    /// Sign-in is not allowed at this hour.
    Hours,
    /// Sign-in is not allowed from this machine.
    Machine,
    /// The password has expired.
    PasswordExpired,
    /// The account is disabled.
    Disabled,
    /// The account has expired.
    AccountExpired,
    /// The password must be changed at first sign-in.
    MustChange,
    /// The account is locked after failed attempts.
    Locked,
}

impl SubCode {
    /// Parses it from the server's message.
    #[must_use]
    pub fn of(words: &str) -> Option<Self> {
        let behind = words.split_once("data ")?.1;
        let digits = behind.split([',', ' ']).next()?;
        Some(match u32::from_str_radix(digits, 16).ok()? {
            0x525 => Self::NoSuchName,
            0x52e => Self::WrongPassword,
            0x530 => Self::Hours,
            0x531 => Self::Machine,
            0x532 => Self::PasswordExpired,
            0x533 => Self::Disabled,
            0x701 => Self::AccountExpired,
            0x773 => Self::MustChange,
            0x775 => Self::Locked,
            _ => return None,
        })
    }

    fn remedy(self) -> &'static str {
        match self {
            Self::NoSuchName => {
                "check the spelling of `bind`; user@domain and the full DN are the safest forms"
            }
            Self::WrongPassword => {
                "check `bind`, then the password's source; every attempt counts towards a lockout"
            }
            Self::Hours => "ask the directory's administrators to remove the logon hours of this account",
            Self::Machine => {
                "ask the directory's administrators to let this account sign in from this machine"
            }
            Self::PasswordExpired => {
                "ask the directory's administrators for a new password, and for one that does not expire"
            }
            Self::Disabled => "ask the directory's administrators to enable this account",
            Self::AccountExpired => "ask the directory's administrators to extend this account's end date",
            Self::MustChange => {
                "ask the directory's administrators to clear \"must change password\" for this account: a program cannot change it"
            }
            Self::Locked => {
                "wait, or ask the directory's administrators to unlock this account (they may have locked it themselves); then find out who tries a wrong password"
            }
        }
    }
}

impl fmt::Display for SubCode {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(match self {
            Self::NoSuchName => "there is no account of this name",
            Self::WrongPassword => "the name or the password is wrong",
            Self::Hours => "the account may not sign in at this hour",
            Self::Machine => "the account may not sign in from this machine",
            Self::PasswordExpired => "the account's password has expired",
            Self::Disabled => "the account is disabled",
            Self::AccountExpired => "the account has expired",
            Self::MustChange => "the account's password must be changed first",
            Self::Locked => "the account is locked",
        })
    }
}

impl Connection {
    /// Binds (RFC 4513 §5); anonymously, if the settings say so.
    ///
    /// # Errors
    /// The bind was refused, or there is no password: a name is never sent with an empty one (RFC 4513 §5.1.2).
    pub async fn bind(
        &mut self,
        directory: &Directory,
        password: Option<&SecretString>,
    ) -> Result<(), DirectoryError> {
        let request = match &directory.bind {
            Bind::Anonymous => {
                self.put_tops(&directory.tops);
                return Ok(());
            }
            Bind::External => self.conversation().bind_external(),
            Bind::Simple { name, .. } => {
                let secret = password
                    .map(ExposeSecret::expose_secret)
                    .filter(|secret| !secret.is_empty())
                    .ok_or_else(|| SecureError::NoPassword {
                        reason: format!("the bind as {name} has no password"),
                        help: "a name without a password would count as anonymous (RFC 4513 section 5.1.2)"
                            .to_owned(),
                    })?;
                // Some servers end the connection over a control that they do not know.
                let knows = self.root().knows(PASSWORD_POLICY);
                let controls = knows.then(password_policy).into_iter().collect();
                self.conversation().bind(name, secret.as_bytes(), controls)
            }
        };
        let request = request.map_err(|error| DirectoryError::protocol(self.server(), error))?;
        let (result, controls) = self.bound(request).await?;
        let state = password_state(&controls);
        // Where the password must be changed, the server answers nothing else after a success.
        let must_change = state.is_some_and(|state| state.fault == Some(MUST_CHANGE));
        if result.code != ResultCode::SUCCESS || must_change {
            return Err(refusal(self.server(), &directory.bind, &result, state).into());
        }
        self.set_password_state(state);
        self.read_root_again(&directory.tops).await
    }

    /// The identity that the server assumes (RFC 4532): `dn:…` or `u:…`, empty if anonymous. `None` if the server
    /// does not support the operation.
    ///
    /// # Errors
    /// The connection is unusable.
    pub async fn who_am_i(&mut self) -> Result<Option<String>, DirectoryError> {
        let (result, value) = self.extended(WHO_AM_I).await?;
        let name = value.map(|value| String::from_utf8_lossy(&value).into_owned());
        Ok((result.code == ResultCode::SUCCESS).then(|| name.unwrap_or_default()))
    }
}

/// A refusal in words, with a remedy for its reason.
fn refusal(
    server: &str,
    bind: &Bind,
    result: &LdapResult,
    state: Option<PasswordState>,
) -> DirectoryErrorKind {
    let words = result.words();
    let sub_code = SubCode::of(&words);
    let policy = state.and_then(|state| state.fault).and_then(|fault| match fault {
        0 => Some(SubCode::PasswordExpired),
        // Another code, invalidCredentials, tells of a lockout by wrong passwords.
        1 if result.code == ResultCode::UNWILLING_TO_PERFORM => Some(SubCode::Disabled),
        1 => Some(SubCode::Locked),
        MUST_CHANGE => Some(SubCode::MustChange),
        _ => None,
    });
    let meaning = sub_code.or(policy);
    let evidence = if words.is_empty() { String::new() } else { format!(", the server says: {words}") };
    DirectoryErrorKind::BindRefused {
        server: server.to_owned(),
        name: match bind {
            Bind::Anonymous => "nobody".to_owned(),
            Bind::Simple { name, .. } => name.clone(),
            Bind::External => "the identity of the connection (EXTERNAL)".to_owned(),
        },
        code: result.code,
        meaning: meaning.map_or_else(String::new, |meaning| format!("{meaning}: ")),
        result: match result.code {
            ResultCode::SUCCESS => {
                "the server takes the one that was sent, and answers nothing else".to_owned()
            }
            code => format!("{code}{evidence}"),
        },
        help: match (bind, meaning) {
            (Bind::Simple { name, .. }, None | Some(SubCode::NoSuchName | SubCode::WrongPassword))
                if is_bare(name) && [34, 49].contains(&result.code.0) =>
            {
                "few servers know such a short name: write the full DN, user@domain or 'DOMAIN\\user' in `bind`; then check the password's source"
            }
            (_, meaning) => meaning.map_or_else(|| bind_remedy(result.code.0, bind), SubCode::remedy),
        },
    }
}

/// The password policy's fault (draft-behera-ldap-password-policy-10, section 6.2) of a password to be changed first.
const MUST_CHANGE: u32 = 2;

/// True of a bind name that is no DN and has no domain.
fn is_bare(name: &str) -> bool {
    !name.contains(['=', '@', '\\'])
}

fn bind_remedy(code: u32, bind: &Bind) -> &'static str {
    match code {
        7 | 48 if *bind == Bind::External => {
            "the server rejects EXTERNAL: does it know the client certificate, or the user at the local socket?"
        }
        7 | 8 | 13 => {
            "the server requires an encrypted connection for passwords: use ldaps://, or remove `plain`"
        }
        34 => "the server does not accept this form of bind name: try the full DN, or user@domain",
        48 | 53 => {
            "the server does not allow this kind of bind: ask its administrators how this account should bind"
        }
        49 => {
            "the name or the password is wrong, or the account is disabled or expired: check `bind`, then the password's source"
        }
        51 | 52 => "the server is busy or shutting down: try again later, or add another one to `servers`",
        _ => "ask the directory's administrators, and give them the result code",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sub_codes_are_read_from_the_servers_words() {
        let words = |code: &str| {
            format!(
                "80090308: LdapErr: DSID-0C0903A9, comment: AcceptSecurityContext error, data {code}, v1db1"
            )
        };
        for (code, expected) in [
            ("525", Some(SubCode::NoSuchName)),
            ("52e", Some(SubCode::WrongPassword)),
            ("530", Some(SubCode::Hours)),
            ("531", Some(SubCode::Machine)),
            ("532", Some(SubCode::PasswordExpired)),
            ("533", Some(SubCode::Disabled)),
            ("701", Some(SubCode::AccountExpired)),
            ("773", Some(SubCode::MustChange)),
            ("775", Some(SubCode::Locked)),
            ("776", None),
            ("", None),
        ] {
            assert_eq!(SubCode::of(&words(code)), expected, "{code}");
        }
        assert_eq!(SubCode::of("no such word"), None);
    }

    #[test]
    fn a_refusal_is_told_for_what_it_is() {
        let (dn, bare) = ("cn=reader,dc=quillmere,dc=example", "svc-web");
        for (code, fault, name, meaning, help) in [
            (53, Some(1), dn, "the account is disabled", "enable"),
            (49, Some(1), dn, "the account is locked", "unlock"),
            (49, Some(0), dn, "the account's password has expired", "new password"),
            (0, Some(2), dn, "the account's password must be changed first", "must change password"),
            (49, None, dn, "", "disabled or expired"),
            (49, None, bare, "", "user@domain"),
            (34, None, bare, "", "user@domain"),
            (49, None, "svc-web@quillmere.example", "", "disabled or expired"),
            (49, None, "QUILLMERE\\svc-web", "", "disabled or expired"),
        ] {
            let result = LdapResult::new(code, "");
            let state = fault.map(|fault| PasswordState {
                fault: Some(fault),
                expires_in: Some(90),
                grace_left: None,
            });
            let bind = Bind::Simple { name: name.to_owned(), password: None };
            let DirectoryErrorKind::BindRefused { meaning: told, help: way_out, .. } =
                refusal("ldaps://dc1", &bind, &result, state)
            else {
                panic!()
            };
            assert_eq!(told.trim_end_matches(": "), meaning, "{code} {fault:?}");
            assert!(way_out.contains(help), "{code} {fault:?} {name}: {way_out}");
        }
    }
}
