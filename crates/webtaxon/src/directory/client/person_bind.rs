//! A bind as a person, with their own password (RFC 4513 §5.1.3), and the server's answer in words.
//!
//! Only success is a yes. Servers tell why not by result codes, by a domain controller's sub-codes ([MS-ADTS] §5.1.1.1), by
//! the password policy control (draft-behera-ldap-password-policy-10), by older controls of 389 Directory Server
//! (draft-vchu-ldap-pwd-policy-00), and by words alone.

use super::bind::SubCode;
use super::connection::Connection;
use crate::directory::{DirectoryError, DirectoryErrorKind};
use secrecy::{ExposeSecret, SecretString};
use webtaxon_core::sign_in::PasswordAnswer;
use webtaxon_wire::control::{PASSWORD_POLICY, PasswordState, password_policy, password_state};
use webtaxon_wire::message::{Control, LdapResult, ResultCode};

/// The control of a password that must be changed (draft-vchu-ldap-pwd-policy-00 §2).
const MUST_CHANGE: &str = "2.16.840.1.113730.3.4.4";
/// The control of a password that expires soon, with the seconds as text (draft-vchu-ldap-pwd-policy-00 §2).
const EXPIRES_SOON: &str = "2.16.840.1.113730.3.4.5";

impl Connection {
    /// Binds as somebody, and returns the server's answer to their password. The connection is good for nothing but
    /// further binds then.
    ///
    /// # Errors
    /// There is no answer: the connection broke, the server is busy, or it refuses binds of this kind. The password is
    /// empty, or the connection may be read on its way: then nothing was sent.
    pub(crate) async fn bind_person(
        &mut self,
        dn: &str,
        password: &SecretString,
    ) -> Result<PasswordAnswer, DirectoryError> {
        let server = self.server().to_owned();
        // A name without a password would count as anonymous (RFC 4513 §5.1.2), and so would no name.
        if password.expose_secret().is_empty() || dn.is_empty() {
            return Ok(PasswordAnswer::Wrong);
        }
        let (result, controls) = match self.ask_person(dn, password).await {
            // It ends after each search, and so has ended after that of the root DSE.
            Err(error) => {
                self.open_again(error).await?;
                self.ask_person(dn, password).await?
            }
            done => done?,
        };
        match answer(&result, &controls) {
            Some(answer) => Ok(answer),
            None => {
                let (base, result) = (dn.to_owned(), Box::new(result));
                Err(DirectoryErrorKind::NoPasswordAnswer { server, base, result }.into())
            }
        }
    }

    /// The server's response to a person's bind.
    async fn ask_person(
        &mut self,
        dn: &str,
        password: &SecretString,
    ) -> Result<(LdapResult, Vec<Control>), DirectoryError> {
        let server = self.server().to_owned();
        if self.is_exposed() {
            return Err(DirectoryErrorKind::Exposed { server }.into());
        }
        let knows = self.root().knows(PASSWORD_POLICY);
        let controls = knows.then(password_policy).into_iter().collect();
        let request = self.conversation().bind(dn, password.expose_secret().as_bytes(), controls);
        self.bound(request.map_err(|error| DirectoryError::protocol(&server, error))?).await
    }
}

/// The answer to a password; `None` if the result is none: another server, or a later try, may have one.
fn answer(result: &LdapResult, controls: &[Control]) -> Option<PasswordAnswer> {
    let state = password_state(controls);
    let fault = state.and_then(|state| state.fault);
    if result.code == ResultCode::SUCCESS {
        // Where the password must be changed, the server answers nothing else after a success.
        let must_change =
            fault == Some(2) || controls.iter().any(|control| control.oid == MUST_CHANGE.as_bytes());
        return Some(match must_change {
            true => PasswordAnswer::MustChange { is_right: true },
            false => right(state, controls),
        });
    }
    let words = result.words();
    if let Some(code) = SubCode::of(&words) {
        return Some(of_sub_code(code));
    }
    let says = |text: &str| words.to_ascii_lowercase().contains(text);
    let is_inactive = says("inactivated") || says("disabled");
    Some(match (result.code.0, fault) {
        // Busy, unavailable, or nothing that concerns the password: wrong kind of bind, encryption wanted, a referral.
        (1..=3 | 7 | 8 | 10..=14 | 34 | 51 | 52 | 54 | 80, _) => return None,
        (32, _) => PasswordAnswer::Gone,
        (49, Some(0)) => PasswordAnswer::Expired { is_right: false },
        (53, Some(1)) => PasswordAnswer::Disabled,
        (_, Some(1)) => PasswordAnswer::Locked,
        (_, Some(2)) => PasswordAnswer::MustChange { is_right: false },
        (19, _) if says("retry limit") || says("locked") => PasswordAnswer::Locked,
        (49, _) if says("expired") => PasswordAnswer::Expired { is_right: false },
        (49, _) => PasswordAnswer::Wrong,
        (53, _) if is_inactive => PasswordAnswer::Disabled,
        (code, _) if words.is_empty() => PasswordAnswer::Other(format!("result {code}")),
        _ => PasswordAnswer::Other(words),
    })
}

fn right(state: Option<PasswordState>, controls: &[Control]) -> PasswordAnswer {
    let soon = controls.iter().find(|control| control.oid == EXPIRES_SOON.as_bytes());
    let soon =
        soon.and_then(|control| std::str::from_utf8(control.value.as_ref()?).ok()?.trim().parse().ok());
    let expires_in = state.and_then(|state| state.expires_in).map(u64::from);
    PasswordAnswer::Right {
        expires_in: expires_in.or(soon),
        grace_left: state.and_then(|state| state.grace_left),
    }
}

fn of_sub_code(code: SubCode) -> PasswordAnswer {
    match code {
        SubCode::NoSuchName => PasswordAnswer::Gone,
        SubCode::WrongPassword => PasswordAnswer::Wrong,
        SubCode::Hours => PasswordAnswer::Hours,
        SubCode::Machine => PasswordAnswer::Machine,
        // These two are only told to the owner of the password.
        SubCode::PasswordExpired => PasswordAnswer::Expired { is_right: true },
        SubCode::MustChange => PasswordAnswer::MustChange { is_right: true },
        SubCode::Disabled => PasswordAnswer::Disabled,
        SubCode::AccountExpired => PasswordAnswer::AccountExpired,
        SubCode::Locked => PasswordAnswer::Locked,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use webtaxon_wire::message::Octets;

    fn control(oid: &'static str, value: &[u8]) -> Control {
        let (oid, value) = (Octets::from_static(oid.as_bytes()), Some(Octets::from_slice(value)));
        Control { oid, value, ..password_policy() }
    }

    fn policy(bytes: &[u8]) -> Vec<Control> {
        vec![control(PASSWORD_POLICY, bytes)]
    }

    #[test]
    fn only_success_without_a_demand_is_a_yes() {
        let right = |expires_in, grace_left| PasswordAnswer::Right { expires_in, grace_left };
        let must_change = PasswordAnswer::MustChange { is_right: true };
        for (controls, expected) in [
            (Vec::new(), right(None, None)),
            (policy(&[0x30, 5, 0xa0, 3, 0x80, 1, 90]), right(Some(90), None)),
            (policy(&[0x30, 5, 0xa0, 3, 0x81, 1, 2]), right(None, Some(2))),
            (vec![control(EXPIRES_SOON, b"86400")], right(Some(86400), None)),
            (policy(&[0x30, 3, 0x81, 1, 2]), must_change.clone()),
            (vec![control(MUST_CHANGE, b"0")], must_change),
        ] {
            assert_eq!(answer(&LdapResult::new(0, ""), &controls), Some(expected), "{controls:?}");
        }
    }

    #[test]
    fn a_refusal_is_told_by_codes_controls_or_words() {
        use PasswordAnswer as Is;
        let none = Vec::new;
        let (expired, locked) = (policy(&[0x30, 3, 0x81, 1, 0]), policy(&[0x30, 3, 0x81, 1, 1]));
        let sub = |code: &str| {
            format!(
                "80090308: LdapErr: DSID-0C0903A9, comment: AcceptSecurityContext error, data {code}, v1db1"
            )
        };
        for (code, words, controls, expected) in [
            (49, "", none(), Is::Wrong),
            (49, "", expired, Is::Expired { is_right: false }),
            (49, "", locked.clone(), Is::Locked),
            (53, "", locked, Is::Disabled),
            (49, "password expired!", none(), Is::Expired { is_right: false }),
            (53, "Account inactivated. Contact system administrator.", none(), Is::Disabled),
            (19, "Exceed password retry limit. Please try later.", none(), Is::Locked),
            (32, "", none(), Is::Gone),
            (49, &sub("525"), none(), Is::Gone),
            (49, &sub("52e"), none(), Is::Wrong),
            (49, &sub("530"), none(), Is::Hours),
            (49, &sub("531"), none(), Is::Machine),
            (49, &sub("532"), none(), Is::Expired { is_right: true }),
            (49, &sub("533"), none(), Is::Disabled),
            (49, &sub("701"), none(), Is::AccountExpired),
            (49, &sub("773"), none(), Is::MustChange { is_right: true }),
            (49, &sub("775"), none(), Is::Locked),
            (53, "unwilling", none(), Is::Other("unwilling".to_owned())),
            (9999, "", none(), Is::Other("result 9999".to_owned())),
        ] {
            assert_eq!(answer(&LdapResult::new(code, words), &controls), Some(expected), "{code} {words}");
        }
    }

    #[test]
    fn what_says_nothing_of_the_password_is_neither_a_refusal_nor_a_yes() {
        for code in [1, 2, 3, 7, 8, 10, 11, 12, 13, 14, 34, 51, 52, 54, 80] {
            assert_eq!(answer(&LdapResult::new(code, ""), &[]), None, "{code}");
        }
    }
}
