//! How steep a picture is.

pub(crate) use vector::add_squares;

#[allow(unsafe_code)] // the dispatch to the processor's vector width is the macro's
mod vector {
    /// Adds to each pixel of a row the square of its gradient, per pixel, by the smoothed differences of Sobel and Feldman (1968)
    /// over the row and the two beside it; beyond the ends the outermost pixel goes on.
    #[multiversion::multiversion(targets("x86_64+avx2"))]
    pub(crate) fn add_squares([up, own, down]: [&[u16]; 3], square: &mut [f32]) {
        let n = square.len();
        let (up, own, down) = (&up[..n], &own[..n], &down[..n]);
        // Of what lies left, at and right of a pixel in each row.
        let steep = |[up, own, down]: [[u16; 3]; 3]| -> f32 {
            let [up, own, down] = [up, own, down].map(|row| row.map(i32::from));
            let column = |x: usize| up[x] + 2 * own[x] + down[x];
            let along = |row: [i32; 3]| row[0] + 2 * row[1] + row[2];
            let (x, y) = ((column(2) - column(0)) as f32, (along(down) - along(up)) as f32);
            (x * x + y * y) * (1.0 / 64.0)
        };
        let Some(last) = n.checked_sub(1) else { return };
        let at = |x: usize| {
            let three = |row: &[u16]| [row[x.saturating_sub(1)], row[x], row[(x + 1).min(last)]];
            steep([three(up), three(own), three(down)])
        };
        square[0] += at(0);
        if last == 0 {
            return;
        }
        square[last] += at(last);
        let (ups, owns, downs) =
            (up.array_windows::<3>(), own.array_windows::<3>(), down.array_windows::<3>());
        for (square, ((up, own), down)) in square[1..last].iter_mut().zip(ups.zip(owns).zip(downs)) {
            *square += steep([*up, *own, *down]);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_slope_has_its_steepness_everywhere_and_half_of_it_at_the_ends_along_it() {
        let row = |y: u16| -> Vec<u16> { (0..9).map(|x| 1000 + 30 * x + 40 * y).collect() };
        let mut square = vec![1.0; 9];
        add_squares([&row(0), &row(1), &row(2)], &mut square);
        assert!(square[1..8].iter().all(|s| *s == 1.0 + 2500.0), "{square:?}");
        assert_eq!([square[0], square[8]], [1.0 + 15.0 * 15.0 + 1600.0; 2]);
        let mut one = [0.0];
        add_squares([&[5], &[7], &[9]], &mut one);
        assert_eq!(one, [4.0]);
    }
}
