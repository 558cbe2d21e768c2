//! Areas for numbers: a rectangle is cut into as many, each as large as its number, and as square as can be (after
//! Bruls, Huizing and van Wijk, "Squarified Treemaps", 2000).

/// A rectangle.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Area {
    pub x: f64,
    pub y: f64,
    pub width: f64,
    pub height: f64,
}

/// Cuts `whole` into areas for `weights`, which come the largest first.
pub fn cut(whole: Area, weights: &[f64]) -> Vec<Area> {
    let total: f64 = weights.iter().sum();
    let mut areas = Vec::new();
    if total <= 0.0 || whole.width <= 0.0 || whole.height <= 0.0 {
        return areas;
    }
    let scale = whole.width * whole.height / total;
    let mut left = whole;
    let mut rest = weights;
    while !rest.is_empty() {
        let side = left.width.min(left.height);
        let mut row = 1;
        while row < rest.len() && worst(&rest[..row + 1], side, scale) <= worst(&rest[..row], side, scale) {
            row += 1;
        }
        areas.extend(lay(&rest[..row], &mut left, scale));
        rest = &rest[row..];
    }
    areas
}

/// How far from a square the least square of a row is.
fn worst(row: &[f64], side: f64, scale: f64) -> f64 {
    let sum: f64 = row.iter().sum::<f64>() * scale;
    let ratio = |weight: &f64| {
        let area = weight * scale;
        let (a, b) = (side * side * area / (sum * sum), sum * sum / (side * side * area));
        a.max(b)
    };
    row.iter().map(ratio).fold(0.0, f64::max)
}

/// Lays a row along the shorter side, and takes it off what is left.
fn lay(row: &[f64], left: &mut Area, scale: f64) -> Vec<Area> {
    let sum: f64 = row.iter().sum::<f64>() * scale;
    let is_upright = left.width >= left.height;
    let thickness = sum / if is_upright { left.height } else { left.width };
    let mut at = if is_upright { left.y } else { left.x };
    let mut areas = Vec::new();
    for weight in row {
        let length = weight * scale / thickness;
        areas.push(match is_upright {
            true => Area { x: left.x, y: at, width: thickness, height: length },
            false => Area { x: at, y: left.y, width: length, height: thickness },
        });
        at += length;
    }
    if is_upright {
        left.x += thickness;
        left.width -= thickness;
    } else {
        left.y += thickness;
        left.height -= thickness;
    }
    areas
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn areas_are_as_large_as_their_numbers_and_fill_the_whole() {
        let whole = Area { x: 0.0, y: 0.0, width: 600.0, height: 400.0 };
        let weights = [60.0, 60.0, 40.0, 30.0, 20.0, 20.0, 10.0];
        let areas = cut(whole, &weights);
        assert_eq!(areas.len(), weights.len());
        for (area, weight) in areas.iter().zip(weights) {
            assert!((area.width * area.height - weight * 1000.0).abs() < 1e-6, "{area:?}");
            assert!(area.x >= 0.0 && area.y >= 0.0);
            assert!(area.x + area.width <= 600.0 + 1e-6 && area.y + area.height <= 400.0 + 1e-6);
            assert!(area.width / area.height < 4.0 && area.height / area.width < 4.0, "{area:?}");
        }
        assert!(cut(whole, &[]).is_empty() && cut(whole, &[0.0]).is_empty());
    }
}
