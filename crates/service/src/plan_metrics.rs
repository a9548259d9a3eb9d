//! The metrics that `count` and `measure` make, as they stand, in Prometheus' text format.

use std::collections::BTreeMap;
use std::fmt::Write;
use std::sync::{Mutex, PoisonError};

use rockrose_ledger::{Added, Series, bucket_end};

/// All series since the beginning.
#[derive(Default)]
pub(crate) struct PlanMetrics {
    series: Mutex<BTreeMap<Series, Added>>,
}

impl PlanMetrics {
    pub(crate) fn of(series: BTreeMap<Series, Added>) -> PlanMetrics {
        PlanMetrics { series: Mutex::new(series) }
    }

    pub(crate) fn add(&self, more: Vec<(Series, Added)>) {
        let mut series = self.series.lock().unwrap_or_else(PoisonError::into_inner);
        for (of, added) in more {
            series.entry(of).or_default().add(&added);
        }
    }

    /// Appends them to an answer.
    pub(crate) fn write(&self, out: &mut Vec<u8>) {
        let series = self.series.lock().unwrap_or_else(PoisonError::into_inner);
        let mut text = String::new();
        let mut last = "";
        for (of, sum) in series.iter() {
            let name = if sum.values.is_none() && !of.metric.ends_with("_total") { format!("{}_total", of.metric) } else { of.metric.clone() };
            if of.metric != last {
                let kind = if sum.values.is_some() { "histogram" } else { "counter" };
                let _ = writeln!(text, "# HELP {name} Made by the plan's steps.\n# TYPE {name} {kind}");
                last = &of.metric;
            }
            let labels = labels(&of.labels);
            match &sum.values {
                None => {
                    let _ = writeln!(text, "{name}{} {}", braces(&labels, None), sum.count);
                }
                Some((total, buckets)) => {
                    let mut below = 0.0;
                    for (bucket, count) in buckets {
                        below += count;
                        let _ = writeln!(text, "{name}_bucket{} {below}", braces(&labels, Some(&bucket_end(*bucket).to_string())));
                    }
                    let _ = writeln!(text, "{name}_bucket{} {}", braces(&labels, Some("+Inf")), sum.count);
                    let _ = writeln!(text, "{name}_sum{} {total}\n{name}_count{} {}", braces(&labels, None), braces(&labels, None), sum.count);
                }
            }
        }
        out.extend_from_slice(text.as_bytes());
    }
}

fn labels(pairs: &[(String, String)]) -> String {
    let one = |(name, value): &(String, String)| {
        let name: String = name.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect();
        let lead = if name.starts_with(|c: char| c.is_ascii_digit()) { "_" } else { "" };
        format!("{lead}{name}=\"{}\"", value.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n"))
    };
    pairs.iter().map(one).collect::<Vec<_>>().join(",")
}

fn braces(labels: &str, end: Option<&str>) -> String {
    let end = end.map(|e| format!("le=\"{e}\""));
    match (labels.is_empty(), end) {
        (true, None) => String::new(),
        (true, Some(end)) => format!("{{{end}}}"),
        (false, None) => format!("{{{labels}}}"),
        (false, Some(end)) => format!("{{{labels},{end}}}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counters_and_histograms_are_written() {
        let metrics = PlanMetrics::default();
        let series = |metric: &str, value: &str| Series { metric: metric.into(), labels: vec![("http.status".into(), value.into())] };
        let count = |n: f64| Added { count: n, values: None };
        metrics.add(vec![(series("responses", "200"), count(2.0)), (series("responses", "a\"b\\\n"), count(1.0))]);
        metrics.add(vec![(series("responses", "200"), count(10.0))]);
        metrics.add(vec![(series("took", "x"), Added { count: 3.0, values: Some((9.0, BTreeMap::from([(4, 2.0), (8, 1.0)]))) })]);
        let mut out = Vec::new();
        metrics.write(&mut out);
        let text = String::from_utf8(out).unwrap();
        for line in [
            "# TYPE responses_total counter",
            "responses_total{http_status=\"200\"} 12",
            "responses_total{http_status=\"a\\\"b\\\\\\n\"} 1",
            "# TYPE took histogram",
            "took_bucket{http_status=\"x\",le=\"2\"} 2",
            "took_bucket{http_status=\"x\",le=\"4\"} 3",
            "took_bucket{http_status=\"x\",le=\"+Inf\"} 3",
            "took_sum{http_status=\"x\"} 9",
            "took_count{http_status=\"x\"} 3",
        ] {
            assert!(text.lines().any(|l| l == line), "{line} in\n{text}");
        }
    }
}
