//! A disk drawn to scale.

use crate::style::faint;
use embrak_model::ByteSize;

/// One partition as it is drawn.
pub struct Part {
    /// Its label.
    pub label: String,
    /// Offset in bytes.
    pub start: u64,
    /// Size in bytes.
    pub size: u64,
    /// How much of it is in use, 0 to 1.
    pub used: f64,
}

const WIDTH: u64 = 72;

/// Prints a disk of so many bytes, 72 columns wide.
pub fn print(size: u64, parts: &[Part]) {
    let (bar, labels) = draw(size, parts);
    anstream::println!("  ┌{}┐", "─".repeat(WIDTH as usize));
    anstream::println!("  │{bar}│ {}", faint("█ used ░ free · no partition"));
    anstream::println!("  │{labels}│ {}", faint(ByteSize(size).human()));
    anstream::println!("  └{}┘", "─".repeat(WIDTH as usize));
}

fn draw(size: u64, parts: &[Part]) -> (String, String) {
    // A disk that was cut short is drawn as long as its table says it should be.
    let whole = parts.iter().map(|p| p.start.saturating_add(p.size)).chain([size, 1]).max().unwrap_or(1);
    let column = |offset: u64| (u128::from(offset) * u128::from(WIDTH) / u128::from(whole)) as u64;
    let (mut bar, mut labels) = (String::new(), String::new());
    let mut at = 0;
    for part in parts {
        let start = column(part.start).min(WIDTH).max(at);
        let end = column(part.start.saturating_add(part.size)).max(start + 1);
        bar += &"·".repeat((start - at) as usize);
        labels += &" ".repeat((start - at) as usize);
        let wide = (end - start) as usize;
        let full = ((wide as f64) * part.used.clamp(0.0, 1.0)).round() as usize;
        // The first column marks where a partition begins.
        bar += "┃";
        bar.extend(("█".repeat(full) + &"░".repeat(wide - full)).chars().skip(1));
        labels += &format!("{:<wide$}", part.label.chars().take(wide).collect::<String>());
        at = end;
    }
    bar += &"·".repeat(WIDTH.saturating_sub(at) as usize);
    labels += &" ".repeat(WIDTH.saturating_sub(at) as usize);
    (bar, labels)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn part(label: &str, start: u64, size: u64, used: f64) -> Part {
        Part { label: label.into(), start, size, used }
    }

    #[test]
    fn the_bar_is_to_scale() {
        let (bar, labels) = draw(72, &[part("boot", 1, 36, 0.5), part("state", 40, 30, 0.0)]);
        assert_eq!(bar, format!("·┃{}{}···┃{}··", "█".repeat(17), "░".repeat(18), "░".repeat(29)));
        assert_eq!(labels, format!(" boot{}state{}", " ".repeat(35), " ".repeat(27)));
    }

    #[test]
    fn tiny_huge_and_impossible_partitions_are_drawn() {
        for parts in [
            vec![part("a", 0, 0, 0.0), part("b", 0, 0, 2.0)],
            vec![part("a", u64::MAX - 1, 10, 1.0), part("b", 5, u64::MAX, -1.0)],
            (0..200).map(|n| part("many", n, 1, 0.5)).collect(),
        ] {
            let (bar, labels) = draw(100, &parts);
            assert!(bar.chars().count() >= 72 && labels.chars().count() >= 72);
        }
    }
}
