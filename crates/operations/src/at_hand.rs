//! Something that changes seldom, read once and kept until it has changed.

use std::sync::Arc;

use tokio::sync::Mutex;

use crate::refusal::Refusal;

/// A value as it was when it had changed so often. Of those who ask for a newer one, one reads it and
/// the others wait.
pub struct AtHand<T>(Mutex<Option<(i64, Arc<T>)>>);

impl<T> Default for AtHand<T> {
    fn default() -> Self {
        Self(Mutex::new(None))
    }
}

impl<T> AtHand<T> {
    /// The value as it is after so many changes, or later ones. `read` gives it with the number that was
    /// asked for *before* it was read, so that what changes in between is read once more.
    pub async fn after(
        &self,
        changes: i64,
        read: impl AsyncFnOnce() -> Result<(i64, T), Refusal>,
    ) -> Result<Arc<T>, Refusal> {
        let mut kept = self.0.lock().await;
        if let Some((number, value)) = &*kept
            && *number >= changes
        {
            return Ok(value.clone());
        }
        let (number, value) = read().await?;
        let value = Arc::new(value);
        *kept = Some((number, value.clone()));
        Ok(value)
    }
}

/// A value that follows from others, kept as long as those are the same.
pub struct Follows<K, T>(Mutex<Option<(K, Arc<T>)>>);

impl<K, T> Default for Follows<K, T> {
    fn default() -> Self {
        Self(Mutex::new(None))
    }
}

impl<K: PartialEq, T> Follows<K, T> {
    /// The value that follows from `from`, which must never be again what it was once. It is asked for *before*
    /// the value is made, so that what changes in between is made once more.
    pub async fn from(
        &self,
        from: K,
        make: impl AsyncFnOnce() -> Result<T, Refusal>,
    ) -> Result<Arc<T>, Refusal> {
        let mut kept = self.0.lock().await;
        if let Some((before, value)) = &*kept
            && *before == from
        {
            return Ok(value.clone());
        }
        let value = Arc::new(make().await?);
        *kept = Some((from, value.clone()));
        Ok(value)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn what_follows_from_the_same_is_made_once() {
        let kept = Follows::default();
        let ask = async |from, now| *kept.from(from, async || Ok(now)).await.unwrap();
        assert_eq!(ask("a", 1).await, 1);
        assert_eq!(ask("a", 2).await, 1, "at hand");
        assert_eq!(ask("b", 3).await, 3);
        let refused = async || Err(Refusal::invalid("away", "away"));
        assert!(kept.from("c", refused).await.is_err());
        assert_eq!(ask("b", 4).await, 3, "a failure loses nothing");
    }

    #[tokio::test]
    async fn what_has_changed_is_read_again_and_nothing_else() {
        let kept = AtHand::default();
        let reads = std::cell::Cell::new(0);
        let ask = async |changes, now| {
            let read = async || {
                reads.set(reads.get() + 1);
                Ok((now, now))
            };
            *kept.after(changes, read).await.unwrap()
        };
        assert_eq!(ask(1, 1).await, 1);
        assert_eq!((ask(1, 9).await, reads.get()), (1, 1), "at hand");
        // It had changed once more while it was read.
        assert_eq!((ask(2, 3).await, reads.get()), (3, 2));
        assert_eq!((ask(3, 9).await, reads.get()), (3, 2));
        assert_eq!((ask(4, 4).await, reads.get()), (4, 3));
        let refused = async || Err(Refusal::invalid("away", "away"));
        assert!(kept.after(5, refused).await.is_err());
        assert_eq!(
            *kept.after(4, async || Ok((9, 9))).await.unwrap(),
            4,
            "a failure loses nothing"
        );
    }
}
