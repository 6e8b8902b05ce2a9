//! Three-by-three matrices between colour spaces of linear light.

/// Rows of a matrix that acts on columns.
pub(crate) type Matrix = [[f32; 3]; 3];

/// XYZ (D65, Y of white is one) of linear sRGB (IEC 61966-2-1).
pub(crate) const XYZ_OF_SRGB: Matrix = [
    [0.412_390_8, 0.357_584_33, 0.180_480_8],
    [0.212_639, 0.715_168_65, 0.072_192_32],
    [0.019_330_82, 0.119_194_78, 0.950_532_14],
];

/// `a` after `b`.
pub(crate) fn times(a: &Matrix, b: &Matrix) -> Matrix {
    std::array::from_fn(|r| std::array::from_fn(|c| (0..3).map(|k| a[r][k] * b[k][c]).sum()))
}

/// What undoes `m`; `None` when nothing does.
pub(crate) fn inverse(m: &Matrix) -> Option<Matrix> {
    let cof = |r: usize, c: usize| {
        let (a, b, d, e) = ((r + 1) % 3, (r + 2) % 3, (c + 1) % 3, (c + 2) % 3);
        m[a][d] * m[b][e] - m[a][e] * m[b][d]
    };
    let det: f32 = (0..3).map(|c| m[0][c] * cof(0, c)).sum();
    (det.abs() > 1e-9 && det.is_finite())
        .then(|| std::array::from_fn(|r| std::array::from_fn(|c| cof(c, r) / det)))
}

/// A colour through a matrix.
pub(crate) fn apply(m: &Matrix, v: [f32; 3]) -> [f32; 3] {
    std::array::from_fn(|r| (0..3).map(|c| m[r][c] * v[c]).sum())
}

/// XYZ of a space with these primaries and white, each x and y; `None` when they make no space.
pub(crate) fn xyz_of(
    red: (f32, f32),
    green: (f32, f32),
    blue: (f32, f32),
    white: (f32, f32),
) -> Option<Matrix> {
    let xyz = |(x, y): (f32, f32)| (y > 1e-6).then(|| [x / y, 1.0, (1.0 - x - y) / y]);
    let (r, g, b, w) = (xyz(red)?, xyz(green)?, xyz(blue)?, xyz(white)?);
    let columns: Matrix = std::array::from_fn(|i| [r[i], g[i], b[i]]);
    let s = apply(&inverse(&columns)?, w);
    Some(std::array::from_fn(|i| std::array::from_fn(|c| columns[i][c] * s[c])))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_primaries_of_srgb_give_its_matrix_and_inverses_cancel() {
        let m = xyz_of((0.64, 0.33), (0.3, 0.6), (0.15, 0.06), (0.3127, 0.329)).unwrap();
        for (a, b) in m.iter().flatten().zip(XYZ_OF_SRGB.iter().flatten()) {
            assert!((a - b).abs() < 2e-4, "{m:?}");
        }
        let one = times(&m, &inverse(&m).unwrap());
        for (r, row) in one.iter().enumerate() {
            for (c, v) in row.iter().enumerate() {
                assert!((v - f32::from(u8::from(r == c))).abs() < 1e-5);
            }
        }
        assert_eq!(inverse(&[[1.0, 2.0, 3.0]; 3]), None);
    }
}
