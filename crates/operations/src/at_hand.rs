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

#[cfg(test)]
mod tests {
    use super::*;

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
