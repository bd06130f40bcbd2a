//! Jobs.

use clap::Subcommand;

use crate::{Context, text};

#[derive(Subcommand)]
pub enum Job {
    /// List the newest jobs.
    List {
        /// Those before this one, to go on.
        #[arg(long, value_name = "JOB")]
        before: Option<i64>,
    },
    /// Show one job.
    Show {
        /// Number of the job.
        job: i64,
    },
    /// Say that you have seen how a job ended: its slot does not say so any more.
    Seen {
        /// Number of the job.
        job: i64,
    },
    /// Ask a job to stop at the next safe place.
    Cancel {
        /// Number of the job.
        job: i64,
    },
}

impl Job {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        match self {
            Self::List { before } => {
                let jobs = context.client.jobs(before).await?;
                context.show(&jobs, |jobs| {
                    let rows = jobs.items.iter().map(|job| {
                        [
                            job.id.to_string(),
                            job.kind.clone(),
                            job.state.clone(),
                            text::moment(job.created_at),
                            job.operator.clone(),
                            job.subject.clone(),
                        ]
                    });
                    text::table(
                        ["job", "kind", "state", "started", "by", "about"],
                        &[0],
                        rows,
                    );
                })
            }
            Self::Show { job } => context.show(&context.client.job(job).await?, show),
            Self::Seen { job } => context.show(&context.client.see_job(job).await?, show),
            Self::Cancel { job } => {
                let job = context.client.cancel(job).await?;
                context.show(&job, |job| println!("job {} was asked to stop", job.id))
            }
        }
    }
}

fn show(job: &api::Job) {
    println!("job {}  {} ({})", job.id, job.kind, job.state);
    println!("  about    {}", job.subject);
    println!(
        "  started  {} by {}",
        text::moment(job.created_at),
        job.operator
    );
    if let Some(began) = job.started_at {
        println!("  at work  {}", text::moment(began));
    }
    if let Some(ended) = job.finished_at {
        println!("  ended    {}", text::moment(ended));
    }
    if let Some(progress) = &job.progress {
        println!(
            "  {:<8} {} of {}",
            progress.stage,
            text::size(progress.done),
            text::size(progress.total)
        );
    }
    if let Some(error) = &job.error {
        println!("  why      {error}");
    }
}
