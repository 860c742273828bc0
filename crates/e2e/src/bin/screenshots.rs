//! Takes the pictures of the main views, from the demo data: `screenshots BINARY DIRECTORY`.

use antistasis_e2e::{Application, Page, Result, project};
use std::path::PathBuf;

#[tokio::main]
async fn main() -> Result<()> {
    let mut words = std::env::args().skip(1).map(PathBuf::from);
    let binary = words.next().ok_or("give the antistasis binary")?;
    let directory = words.next().unwrap_or_else(|| project().join("docs/screenshots"));
    std::fs::create_dir_all(&directory)?;
    let application = Application::start(&binary)?;
    let page = Page::open(1280, 800).await?;
    let save = async |name: &str| page.picture(&directory.join(format!("{name}.png"))).await;

    page.go(&application.address("/")).await?;
    page.shows("TIC-204").await?;
    save("home").await?;

    page.go(&application.address("/loops/TIC-204/measure")).await?;
    page.drawn().await?;
    save("measure").await?;

    let chooser = page.client.find(fantoccini::Locator::Css("input[type=file]")).await?;
    let file = project().join("demo/records/TIC-204-doublet.csv").canonicalize()?;
    chooser.send_keys(&file.to_string_lossy()).await?;
    page.shows("Import").await?;
    page.shows("decimal comma").await?;
    save("import").await?;

    page.go(&application.address("/loops/TIC-204/model")).await?;
    page.drawn().await?;
    save("model").await?;

    page.go(&application.address("/loops/TIC-204/measure?view=plan")).await?;
    page.shows("expected of a fit").await?;
    page.drawn().await?;
    save("plan").await?;

    page.go(&application.address("/loops/TIC-204/control")).await?;
    page.drawn().await?;
    page.shows("Max. sensitivity").await?;
    save("control").await?;

    page.go(&application.address("/loops/TIC-310/control")).await?;
    page.drawn().await?;
    page.click("Scenario").await?;
    page.click("Operating point").await?;
    page.shows("nearest FOPDT").await?;
    page.drawn().await?;
    save("operating").await?;
    // The heater that fouls, followed over three weeks.
    page.go(&application.address("/loops/TIC-204/model")).await?;
    page.drawn().await?;
    let chosen = |list: &str, has: &str| {
        format!(
            "const list = document.querySelector('select[aria-label=\"{list}\"]');
            const wanted = [...(list?.options ?? [])].find((one) => one.textContent.includes('{has}'));
            if (!wanted) return false;
            list.value = wanted.value;
            list.dispatchEvent(new Event('change', {{ bubbles: true }}));
            return true"
        )
    };
    let found = |selector: &str, has: &str| {
        format!(
            "const found = [...document.querySelectorAll('{selector}')].find((one) => one.textContent.includes('{has}'));
            (found?.querySelector('input') ?? found)?.click();
            return found !== undefined"
        )
    };
    page.until("the heat balance", &found("table[aria-label=Models] tbody tr", "heat balance")).await?;
    page.click("On line").await?;
    page.until("the record", &chosen("Record that is followed", "Three weeks")).await?;
    page.shows("Not to be believed").await?;
    page.until("the efficiency", &found("aside label", "efficiency")).await?;
    page.shows("The efficiency").await?;
    page.drawn().await?;
    save("online").await?;
    page.go(&application.address("/loops/TIC-501/model?view=balance")).await?;
    page.shows("left over, and what noise alone leaves").await?;
    page.drawn().await?;
    save("balance").await?;
    page.go(&application.address("/loops/TIC-204/control")).await?;
    page.drawn().await?;

    page.click("Tune").await?;
    page.click("Trade-off").await?;
    page.click("Draw it").await?;
    page.shows("Press a point to take its settings").await?;
    page.until("all curves", "return document.querySelector('progress[aria-label=Trade-off]') === null").await?;
    save("trade-off").await?;
    page.click("Candidate").await?;
    page.click("Frequency").await?;
    page.shows("White noise of 1 %").await?;
    page.drawn().await?;
    save("frequency").await?;
    page.go(&application.address("/loops/TIC-204/prove")).await?;
    page.shows("passes all").await?;
    page.shows("keeps every limit under all").await?;
    save("prove").await?;
    page.click("Over frequency").await?;
    page.shows("as it came in").await?;
    page.pick("Record", "A shift in automatic").await?;
    page.shows("no feedback could have left less than").await?;
    page.drawn().await?;
    save("rejection").await?;
    page.go(&application.address("/loops/TIC-204/hand-over?view=dossier")).await?;
    page.shows("What is written here is kept").await?;
    let is_there =
        "return document.querySelector('iframe')?.contentDocument?.body?.textContent.includes('In short') ?? false";
    page.until("the page of the dossier", is_there).await?;
    page.settled().await?;
    save("hand-over").await?;

    page.go(&application.address("/loops/AIC-320/control?view=interaction")).await?;
    page.shows("Relative gains at rest").await?;
    page.drawn().await?;
    save("interaction").await?;
    page.go(&application.address("/loops/AIC-320/model?view=cells")).await?;
    page.shows("AIC-320.PV by FIC-322.OP").await?;
    page.drawn().await?;
    save("cells").await?;

    page.script("localStorage.setItem('antistasis-theme', 'dark')").await?;
    // The set point has just moved: what the predictive controller makes of it.
    let place = page.predictive_trial("AIC-320", "view=ahead&").await?;
    page.go(&application.address(&place)).await?;
    page.shows("Where it goes").await?;
    page.drawn().await?;
    save("ahead").await?;

    // A slaker that is heated up between bands which tighten one after the other.
    page.script("localStorage.removeItem('antistasis-theme')").await?;
    let place = page.predictive_trial("TIC-310", "").await?;
    page.go(&application.address(&place)).await?;
    page.shows("FIC-312.OP").await?;
    page.drawn().await?;
    save("bands").await?;

    // Last, since models are stale under another preparation.
    page.go(&application.address("/loops/TIC-204/measure?view=prepare")).await?;
    page.drawn().await?;
    for kind in ["outliers", "low_pass"] {
        page.select("Add a step", kind).await?;
        page.click("Apply").await?;
        page.shows(if kind == "outliers" { "replaced." } else { "forth and back." }).await?;
    }
    // Afresh, so that the curve is the prepared one.
    page.go(&application.address("/loops/TIC-204/measure?view=prepare")).await?;
    page.shows("forth and back.").await?;
    page.drawn().await?;
    save("prepare").await?;

    page.close().await
}
