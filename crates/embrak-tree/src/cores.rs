//! The same work for many things, on all cores.

use std::sync::atomic::{AtomicUsize, Ordering};

/// Fewer than this are not worth another thread.
const FEW: usize = 16;

/// Does something for every number below `count`, on all cores when there are many; the results in order.
///
/// # Errors
/// The work fails for one of them.
pub fn on_all_cores<T: Send, E: Send>(count: usize, work: impl Fn(usize) -> Result<T, E> + Sync) -> Result<Vec<T>, E> {
    let cores = if count < FEW { 1 } else { std::thread::available_parallelism().map_or(1, usize::from) };
    let next = AtomicUsize::new(0);
    let part = || -> Result<Vec<(usize, T)>, E> {
        let numbers = std::iter::from_fn(|| Some(next.fetch_add(1, Ordering::Relaxed)).filter(|n| *n < count));
        numbers.map(|n| Ok((n, work(n)?))).collect()
    };
    let mut all = std::thread::scope(|scope| {
        let others: Vec<_> = (1..cores).map(|_| scope.spawn(part)).collect();
        let mut all = part()?;
        for other in others {
            all.extend(other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))?);
        }
        Ok(all)
    })?;
    all.sort_by_key(|(n, _)| *n);
    Ok(all.into_iter().map(|(_, result)| result).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn results_are_in_order_and_a_failure_is_told() {
        for count in [0, 3, 1000] {
            let found = on_all_cores(count, |n| Ok::<_, ()>(n * 2)).unwrap();
            assert_eq!(found, (0..count).map(|n| n * 2).collect::<Vec<_>>());
        }
        assert_eq!(on_all_cores(1000, |n| if n == 700 { Err(n) } else { Ok(n) }), Err(700));
    }
}
