//! A load out of a record, in the unit that the record has it in; and a sweep that the end of the server cuts off.

use antistasis_e2e::{Application, Page, Result, binary};
use fantoccini::Locator;
use std::fmt::Write as _;

/// The hall's record with the weather in °F: a warm day that cools down.
fn weather() -> String {
    let mut text = String::from("time [s],TIC-501.PV [°C],TIC-501.OP [%],TI-77.PV [°F]\n");
    for k in 0..200 {
        let (pv, op) = (18.0 + 0.01 * f64::from(k), if k < 100 { 40 } else { 45 });
        let outside = 59.0 - 0.09 * f64::from(k);
        let _ = writeln!(text, "{},{pv:.2},{op},{outside:.2}", 60 * k);
    }
    text
}

#[tokio::test(flavor = "multi_thread")]
async fn weather_comes_in_its_own_unit_and_a_sweep_outlives_the_server() -> Result<()> {
    let mut application = Application::start(&binary()?)?;
    let page = Page::open(1280, 800).await?;
    page.go(&application.address("/loops/TIC-501/measure")).await?;
    page.shows("TIC-501").await?;
    page.drawn().await?;
    let directory = tempfile::tempdir()?;
    let file = directory.path().join("weather.csv");
    std::fs::write(&file, weather())?;
    page.client.find(Locator::Css("input[type=file]")).await?.send_keys(&file.to_string_lossy()).await?;
    page.shows("TI-77.PV").await?;
    page.click("Import").await?;
    page.until("the import", "return document.querySelector('[role=dialog]') === null").await?;
    page.drawn().await?;

    // A channel of the record as a load: it acts on the input that is measured in such a unit.
    page.go(&application.address("/loops/TIC-501/control")).await?;
    page.drawn().await?;
    page.click("Scenario").await?;
    page.select("Add to the timeline", "load_channel").await?;
    page.shows("Its samples are in").await?;
    page.drawn().await?;
    let wanted = "return [...document.querySelectorAll('option')].find((one) => one.text.startsWith('TI-77.PV')).value";
    let wanted = page.script(wanted).await?.as_str().ok_or("no such channel")?.to_owned();
    page.select("Follows", &wanted).await?;
    let chosen = |label: &str| {
        format!(
            "return [...document.querySelectorAll('label')].find((one) => one.innerText.startsWith('{label}'))
                ?.querySelector('select')?.selectedOptions[0]?.text
                ?? document.getElementById([...document.querySelectorAll('label')]
                    .find((one) => one.innerText.startsWith('{label}'))?.htmlFor)?.selectedOptions[0]?.text"
        )
    };
    page.until("the channel", &format!("return (() => {{ {} }})()?.includes('TI-77.PV')", chosen("Follows"))).await?;
    page.until("its unit", &format!("return (() => {{ {} }})() === '°F'", chosen("Its samples are in"))).await?;
    page.until(
        "the input",
        &format!("return (() => {{ {} }})()?.toLowerCase().includes('outdoor')", chosen("Acts on")),
    )
    .await?;
    // What stands in the trail holds the samples as they were, with their unit.
    let kept = "return (async () => {
        const [row] = await (await fetch('/api/v1/loops/TIC-501/trials')).json();
        const event = row?.trial.scenario.events.find((one) => one.kind === 'load_channel');
        return event ? event.unit === '°F' && Math.abs(event.values[0] - 59) < 0.01 : false;
    })()";
    page.until("the trial", kept).await?;

    // On the OP, which is in %, degrees cannot act: it is said where it was chosen, and the curve before it stays.
    page.select("Acts on", "").await?;
    page.shows("“°F”").await?;
    page.select("Acts on", "outdoor_temperature").await?;
    page.until("no refusal", "return !document.body.innerText.includes('“°F”')").await?;

    // A sweep is cut off by the end of the server and begins anew by itself when it is back.
    page.go(&application.address("/loops/TIC-310/control?view=sweep")).await?;
    page.shows("Run ").await?;
    page.enter("Values", "400").await?;
    page.click("Run 400 trials").await?;
    page.shows("Cancel the sweep").await?;
    application.stop();
    page.shows("does not answer").await?;
    application.resume()?;
    page.shows("400 trials in").await?;
    page.until("no refusal", "return !document.body.innerText.includes('does not answer')").await?;
    page.close().await
}
