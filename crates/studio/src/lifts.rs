//! What a lift does, in words and outlines.

use crate::model::LiftInfo;
use evanu_core::composite::{Fitted, Lift};

/// Share of its border that may cut through something unnoticed.
const TORN: f32 = 0.04;
/// Share of it that may be cut off unnoticed.
const KEPT: f32 = 0.01;

impl LiftInfo {
    /// Of a lift that lies outside, or whose frame does not fit.
    pub fn nowhere() -> Self {
        let words = "It covers nothing of the plate.".to_owned();
        Self { border: Vec::new(), brings: Vec::new(), takes: 0, words, warns: true }
    }

    /// Of one that was fitted.
    pub fn of(fit: &Fitted, lift: &Lift) -> Self {
        let mask = &fit.mask;
        let on: Vec<bool> = mask.weights().iter().map(|w| *w >= 0.5).collect();
        let brings = fit.noticed.things.iter().filter(|t| t.brought).flat_map(|t| {
            let mut thing = vec![false; on.len()];
            t.pixels.iter().for_each(|&p| thing[p] = true);
            mask.outlines(&thing)
        });
        let brings: Vec<_> = brings.collect();
        let brought = fit.noticed.things.iter().filter(|t| t.brought).count();
        let takes = fit.noticed.things.len() - brought;
        let torn = fit.noticed.torn > TORN;
        let kept = fit.noticed.kept > KEPT;
        let mut told = words(lift, (brought, takes), fit.noticed.undecided, torn);
        if kept {
            told.push_str(" An area that you keep cuts a part off.");
        }
        let border = mask.outlines(&on);
        Self { border, brings, takes, words: told, warns: torn || kept || brought > 0 && takes > 0 }
    }
}

fn words(lift: &Lift, (brought, takes): (usize, usize), undecided: bool, torn: bool) -> String {
    let count = |n: usize| if n == 1 { "one thing".to_owned() } else { format!("{n} things") };
    let does = match (brought, takes) {
        _ if !lift.seek => "It is laid as drawn.".to_owned(),
        (0, 0) if undecided => "It shows something else; whether more or less, no edge tells.".to_owned(),
        (0, 0) => "It shows the same as the plate.".to_owned(),
        (0, n) => format!("It takes {} away.", count(n)),
        (n, 0) => format!("It brings {} in.", count(n)),
        (n, m) => format!("It takes {} away, but brings {} along.", count(m), count(n)),
    };
    if torn {
        return format!("{does} Its border cuts through something: draw wider.");
    }
    does
}

#[cfg(test)]
mod tests {
    use super::*;
    use evanu_core::composite::Source;

    #[test]
    fn what_it_does_is_said_with_what_would_help() {
        let lift = Lift::new(0, Vec::new(), Source::Frame(1));
        assert!(words(&lift, (0, 0), true, false).contains("something else"));
        assert_eq!(words(&lift, (0, 1), false, false), "It takes one thing away.");
        assert_eq!(words(&lift, (2, 0), false, false), "It brings 2 things in.");
        assert!(words(&lift, (1, 1), false, false).contains("brings one thing along"));
        assert!(words(&lift, (0, 1), false, true).contains("cuts through something"));
        assert_eq!(words(&Lift { seek: false, ..lift }, (0, 0), false, false), "It is laid as drawn.");
    }
}
