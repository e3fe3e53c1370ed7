//! Security contexts: `user:role:type[:level]` (SELinux).

use std::fmt;
use std::str::FromStr;
use std::sync::Arc;

/// A security context. Cheap to clone: many files have the same.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct SecurityContext(Arc<str>);

/// A text that is no security context.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("a security context is user:role:type, and on multi-level hosts a level, such as system_u:object_r:etc_t:s0")]
pub struct NoContext;

impl SecurityContext {
    /// What the kernel hands out as an extended attribute: the text, and most often a NUL at its end.
    pub fn from_attribute(bytes: &[u8]) -> Result<Self, NoContext> {
        let bytes = bytes.strip_suffix(&[0]).unwrap_or(bytes);
        std::str::from_utf8(bytes).map_err(|_| NoContext)?.parse()
    }

    /// The extended attribute's value, with its NUL.
    #[must_use]
    pub fn to_attribute(&self) -> Vec<u8> {
        [self.0.as_bytes(), &[0]].concat()
    }

    /// The whole text.
    #[must_use]
    pub fn text(&self) -> &str {
        &self.0
    }

    fn parts(&self) -> (&str, &str, &str, Option<&str>) {
        let mut parts = self.0.splitn(4, ':');
        let mut next = || parts.next().unwrap_or_default();
        (next(), next(), next(), parts.next())
    }

    /// The type, on which access depends.
    #[must_use]
    pub fn type_name(&self) -> &str {
        // Asked for each file of a site: quicker than taking it all apart.
        let bytes = self.0.as_bytes();
        let colon = |from: usize| bytes[from..].iter().position(|byte| *byte == b':').map(|place| from + place);
        let begins = colon(0).and_then(|first| colon(first + 1)).map_or(0, |second| second + 1);
        &self.0[begins..colon(begins).unwrap_or(bytes.len())]
    }

    /// The same user, role and level with another type.
    #[must_use]
    pub fn with_type(&self, type_name: &str) -> Self {
        let (user, role, _, level) = self.parts();
        let level = level.map(|level| format!(":{level}")).unwrap_or_default();
        Self(format!("{user}:{role}:{type_name}{level}").into())
    }

    /// The context that a service of the system has in this domain.
    #[must_use]
    pub fn of_domain(type_name: &str, multi_level: bool) -> Self {
        let level = if multi_level { ":s0" } else { "" };
        Self(format!("system_u:system_r:{type_name}{level}").into())
    }

    /// The context that a file of this type has on a host where nothing else is known of it.
    #[must_use]
    pub fn of_file(type_name: &str, multi_level: bool) -> Self {
        let level = if multi_level { ":s0" } else { "" };
        Self(format!("system_u:object_r:{type_name}{level}").into())
    }
}

impl FromStr for SecurityContext {
    type Err = NoContext;

    fn from_str(text: &str) -> Result<Self, NoContext> {
        let plain = |part: &str| !part.is_empty() && !part.contains(|c: char| c.is_whitespace() || c.is_control());
        let mut parts = text.splitn(4, ':');
        let named = [parts.next(), parts.next(), parts.next()];
        let level = parts.next();
        let sound = named.iter().all(|part| part.is_some_and(plain)) && level.is_none_or(plain);
        if sound { Ok(Self(text.into())) } else { Err(NoContext) }
    }
}

impl fmt::Display for SecurityContext {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

/// Whether a text can be a type's name: letters, digits, `_`, `-` and `.`, as the policy language has them.
#[must_use]
pub fn is_type_name(text: &str) -> bool {
    let rest = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '.');
    text.starts_with(|c: char| c.is_ascii_alphabetic()) && text.chars().all(rest)
}

/// Whether a text can be the name of a boolean of the policy.
#[must_use]
pub fn is_boolean_name(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_')
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case(b"system_u:object_r:etc_t:s0\0", "etc_t", "system_u:object_r:tmp_t:s0")]
    #[case(b"u:r:t", "t", "u:r:tmp_t")]
    #[case(b"u:r:t:s0-s15:c0.c1023\0", "t", "u:r:tmp_t:s0-s15:c0.c1023")]
    fn only_the_type_changes(#[case] bytes: &[u8], #[case] type_name: &str, #[case] with: &str) {
        let context = SecurityContext::from_attribute(bytes).unwrap();
        assert_eq!(context.type_name(), type_name);
        assert_eq!(context.with_type("tmp_t").text(), with);
    }

    #[rstest]
    #[case(b"")]
    #[case(b"\0")]
    #[case(b"u:r")]
    #[case(b"u:r:")]
    #[case(b"u:r:t:")]
    #[case(b"u:r:t t")]
    #[case(b"u:r:t\0\0")]
    #[case(b"\xff:r:t")]
    fn what_is_none(#[case] bytes: &[u8]) {
        assert_eq!(SecurityContext::from_attribute(bytes), Err(NoContext));
    }

    proptest! {
        #[test]
        fn bytes_and_back(bytes in proptest::collection::vec(any::<u8>(), 0..40)) {
            if let Ok(context) = SecurityContext::from_attribute(&bytes) {
                prop_assert_eq!(SecurityContext::from_attribute(&context.to_attribute()), Ok(context.clone()));
                prop_assert_eq!(context.with_type(context.type_name()), context);
            }
        }
    }

    #[rstest]
    #[case("httpd_sys_content_t", true)]
    #[case("", false)]
    #[case("a b", false)]
    #[case("1t", false)]
    #[case("t)", false)]
    fn type_names(#[case] text: &str, #[case] want: bool) {
        assert_eq!(is_type_name(text), want);
    }
}
