//! Following a job to its end: a bar for people, lines of JSON for programs, Ctrl-C cancels.

use std::time::Duration;

use api::Job;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

use crate::{Context, Ended, text};

/// Follows a job; a job that did not end well is an error.
pub async fn follow(context: &Context, job: &Job) -> anyhow::Result<Job> {
    let bar = if context.json {
        ProgressBar::hidden()
    } else {
        bar()
    };
    let client = context.client.clone();
    let see = |job: &Job| show(&bar, job);
    let ended = tokio::select! {
        ended = client.follow(job.id, see) => ended,
        _ = tokio::signal::ctrl_c() => {
            bar.set_message("cancelling");
            // A job that ended this very moment is shown as it ended.
            let _ = client.cancel(job.id).await;
            client.follow(job.id, |_| {}).await
        }
    };
    bar.finish_and_clear();
    let ended = ended?;
    if ended.state == "done" {
        return Ok(ended);
    }
    if context.json {
        println!("{}", serde_json::to_string_pretty(&ended)?);
    }
    let detail = ended.error.clone().unwrap_or_default();
    Err(Ended {
        cancelled: ended.state == "cancelled",
        detail: format!("{} {}: {detail}", ended.kind, ended.state),
    }
    .into())
}

fn bar() -> ProgressBar {
    let bar = ProgressBar::new(0);
    bar.set_draw_target(ProgressDrawTarget::stderr_with_hz(4));
    let style = ProgressStyle::with_template("{prefix:>10}  {bar:30} {percent:>3} %  {msg}");
    if let Ok(style) = style {
        bar.set_style(style.progress_chars("█▌░"));
    }
    bar.enable_steady_tick(Duration::from_millis(250));
    bar
}

fn show(bar: &ProgressBar, job: &Job) {
    let Some(progress) = &job.progress else {
        return;
    };
    bar.set_prefix(progress.stage.clone());
    bar.set_length(progress.total.max(1));
    bar.set_position(progress.done);
    if progress.total == 0 {
        bar.set_message("");
        return;
    }
    let left = match progress.seconds_left {
        Some(seconds) => format!("{} left", text::span(seconds)),
        None => "time left not known yet".into(),
    };
    let rate = text::size(progress.rate as u64);
    bar.set_message(format!(
        "{} of {}  {rate}/s  {left}",
        text::size(progress.done),
        text::size(progress.total)
    ));
}
