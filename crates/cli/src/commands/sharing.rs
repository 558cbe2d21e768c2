//! `store push` and `store pull`: step results go to the shared store, and come from there, without a build.

use super::Done;
use super::order::order;
use crate::interrupt;
use crate::shared;
use crate::surroundings::Surroundings;
use ::sharing::SharedStore;
use arguments::SourceOptions;
use engine::{Budget, Session, SharedResults, StepGraph, fetch_results};
use remote::Network;
use render::events::Renderer;
use render::{FAINT, GOOD, Output, styled, words};
use std::process::ExitCode;
use wording::Failure;
use workshop::inspect::DEFAULT_TAG;
use workshop::prepare::prepare;
use workshop::storage;

pub fn push(surroundings: &Surroundings, output: &Output) -> Done {
    interrupt::cancels(&surroundings.cancel)?;
    let shared = open(surroundings)?;
    let results = storage::results(&surroundings.store)?;
    for (key, produced) in &results {
        // How long it took is known only to the apps that it ran for.
        shared.offer(*key, produced, 0);
    }
    shared.finish();
    let (statistics, troubles) = (shared.statistics(), shared.troubles());
    shared::finish(Some(&shared), &Output::aside_alone());
    if surroundings.cancel.is_cancelled() {
        return Err(model::Error::Interrupted.into());
    }
    if output.is_json() {
        output.json(&serde_json::json!({
            "format": "shtetl/store-push/1", "results": results.len(), "statistics": statistics,
        }));
    } else {
        let there = results.len().saturating_sub(usize::try_from(statistics.sent).unwrap_or(usize::MAX));
        let verdict = styled(
            GOOD,
            format!("{} sent", words::count(usize::try_from(statistics.sent).unwrap_or(0), "result")),
        );
        output.line(format!(
            "{verdict}, {}; {there} already there, or not sent",
            words::size(statistics.bytes_sent)
        ));
    }
    Ok(ExitCode::from(u8::from(!troubles.is_empty())))
}

pub fn pull(source: &SourceOptions, surroundings: &Surroundings, output: &Output) -> Done {
    interrupt::cancels(&surroundings.cancel)?;
    let shared = open(surroundings)?;
    let fetcher = surroundings.fetcher(Network::Allowed);
    let order = order(DEFAULT_TAG, "zstd", surroundings, &fetcher);
    let app = surroundings.look(source, order.fetcher, order.now)?;
    let worklist = prepare(&app, &order, &surroundings.store)?;
    let (renderer, budget) = (Renderer::of_work(output), Budget::new(surroundings.jobs));
    let events = |event| renderer.show(&event);
    let session = Session { shared: Some(&shared), ..surroundings.session(&fetcher, &budget, &events) };
    let mut graph = StepGraph::default();
    let wanted = graph.add(&worklist.build_steps(&app.survey.name));
    let lacking = fetch_results(&graph, &wanted, &session);
    let statistics = shared.statistics();
    shared::finish(Some(&shared), output);
    if output.is_json() {
        output.json(&serde_json::json!({
            "format": "shtetl/store-pull/1", "app": app.survey.name, "lacking": lacking, "statistics": statistics,
        }));
        return Ok(ExitCode::SUCCESS);
    }
    let came = words::count(usize::try_from(statistics.hits).unwrap_or(usize::MAX), "result");
    output.line(format!(
        "{}, {}",
        styled(GOOD, format!("{came} came")),
        words::size(statistics.bytes_received)
    ));
    if !lacking.is_empty() {
        output.line(format!("  {}  {}", styled(FAINT, "a build would run"), lacking.join(", ")));
    }
    Ok(ExitCode::SUCCESS)
}

fn open(surroundings: &Surroundings) -> Result<SharedStore, Failure> {
    shared::open(surroundings, Network::Allowed)?.ok_or_else(|| Failure::Usage {
        message: "no shared store is configured".to_owned(),
        hint: "set SHTETL_SHARED, or write under [store] in the user's configuration: shared = \"s3:https://HOST/BUCKET\""
            .to_owned(),
    })
}
