//! Plants, scenarios, sweeps and what they show, driven as a user drives them.

#![allow(clippy::panic)]

use antistasis_e2e::{Application, Page, Result, binary};
use fantoccini::Locator;
use fantoccini::key::Key;

#[tokio::test(flavor = "multi_thread")]
async fn a_plant_is_changed_looked_into_and_swept() -> Result<()> {
    let application = Application::start(&binary()?)?;
    let page = Page::open(1280, 800).await?;

    // The loop has a trial on the plant behind it; a load is added to the timeline and drawn along on the strip.
    page.go(&application.address("/loops/LIC-110/control")).await?;
    page.shows("averaging, the valve sticks").await?;
    page.click("Scenario").await?;
    page.select("Add to the timeline", "load_step").await?;
    page.shows("with inflow step").await?;
    page.drawn().await?;
    let mark = page.client.find(Locator::Css("[role=slider][aria-label^=inflow]")).await?;
    let before = mark.attr("aria-valuenow").await?.ok_or("no time")?.parse::<f64>()?;
    mark.send_keys(&Key::Right.to_string()).await?;
    page.shows("inflow step at").await?;
    let mark = page.client.find(Locator::Css("[role=slider][aria-label^=inflow]")).await?;
    assert!(mark.attr("aria-valuenow").await?.ok_or("no time")?.parse::<f64>()? > before);

    // Saved for the works, and there again after a reload and in another loop.
    page.click("Saved scenarios").await?;
    page.enter("Name to save this scenario under", "inflow surge").await?;
    page.entry("Name to save this scenario under").await?.send_keys(&Key::Enter.to_string()).await?;
    page.shows("Saved scenarios (1)").await?;
    for tag in ["FIC-101", "LIC-110"] {
        page.go(&application.address(&format!("/loops/{tag}/control"))).await?;
        page.drawn().await?;
        page.click("Scenario").await?;
        page.click("Saved scenarios (1)").await?;
        page.shows("from LIC-110").await?;
    }
    page.click("inflow surge").await?;

    // The balance of the tank closes.
    page.click("Balances").await?;
    page.shows("closes within").await?;
    page.drawn().await?;

    // Another process: an exothermic reactor, which can rest at three temperatures under the same inputs.
    page.click("Course").await?;
    page.click("Plant").await?;
    let reactor = "return [...document.querySelectorAll('select[aria-label=Process] option')]
        .find((option) => option.text.startsWith('Exothermic stirred reactor with cooled')).value";
    let reactor = page.script(reactor).await?.as_str().ok_or("no reactor")?.to_owned();
    page.select("Process", &reactor).await?;
    page.shows("exothermic stirred reactor with cooled wall").await?;
    page.click("Operating point").await?;
    page.shows("3 steady states under the same inputs, 1 of them stable").await?;
    page.click("Transfer functions").await?;
    page.shows("coolant temperature").await?;
    page.select("Step response", "feed_temperature concentration").await?;
    page.shows("concentration after feed temperature +1 °C").await?;

    // A vessel that is charged and left to run gets settings of its own, and so does a linear process of second order: what
    // is drawn is a trial on that plant, never one on the plant before.
    for (title, words) in [("Batch reactor", "batch reactor"), ("Second order", "second order")] {
        page.click("Course").await?;
        page.click("Plant").await?;
        let wanted = format!(
            "return [...document.querySelectorAll('select[aria-label=Process] option')]
                .find((option) => option.text.startsWith('{title}')).value"
        );
        let wanted = page.script(&wanted).await?.as_str().ok_or("no such process")?.to_owned();
        page.select("Process", &wanted).await?;
        page.shows(words).await?;
        page.drawn().await?;
        let newest = "return (async () => {
            const [row] = await (await fetch('/api/v1/loops/LIC-110/trials')).json();
            return `${row.label} | ${row.assessment.metrics.integral_absolute_error}`;
        })()";
        page.until(
            "the trial on it in the trail",
            &format!("return (async () => (await (() => {{ {newest} }})()).includes('{words}'))()"),
        )
        .await?;
        assert!(
            !page
                .script("return document.querySelector('[role=alert]')?.innerText ?? ''")
                .await?
                .as_str()
                .is_some_and(|text| text.contains("Error"))
        );
    }
    page.select("Process", &reactor).await?;
    page.shows("exothermic stirred reactor with cooled wall").await?;

    // A sweep runs, and one that takes too long is cancelled.
    page.click("Sweep").await?;
    page.click("Run 25 trials").await?;
    page.shows("25 trials in").await?;
    page.drawn().await?;
    page.enter("Values", "1000").await?;
    page.click("Run 1000 trials").await?;
    page.shows("Cancel the sweep").await?;
    page.click("Cancel the sweep").await?;
    page.shows("The sweep was cancelled.").await?;

    // Any signal over any window.
    page.click("Course").await?;
    let measure = "[...document.querySelectorAll('aside [role=tab]')].find((tab) => tab.innerText === 'Measure')";
    page.script(&format!("{measure}.click()")).await?;
    page.shows("standard deviation").await?;
    page.enter("High limit", "51").await?;
    page.shows("time outside").await?;
    page.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn equations_are_checked_as_they_are_typed_and_what_leaves_is_a_file() -> Result<()> {
    let application = Application::start(&binary()?)?;
    let page = Page::open(1280, 800).await?;
    page.go(&application.address("/loops/FIC-101/control")).await?;
    page.shows("plant, SIMC, τc").await?;
    page.drawn().await?;
    page.click("Plant").await?;
    page.click("Edit the equations").await?;
    // As text, a line each: the line with the mistake is named. Then in fields.
    let text = page.script("return document.querySelector('[aria-label=\"Equations as text\"]').value").await?;
    assert!(text.as_str().is_some_and(|text| text.contains("dflow/dt =")), "{text}");
    let fow = "const area = document.querySelector('[aria-label=\"Equations as text\"]');
        area.value = area.value.replace('/dt =', '/dt = fow * 0 + '); area.dispatchEvent(new Event('input'))";
    page.script(fow).await?;
    page.shows("“fow”, which is unknown").await?;
    page.shows("1 to be mended").await?;
    page.click("In fields").await?;
    page.enter("Rate of flow", "(valve_flow * opening / 100 * drive - flow) / (2 * lag)").await?;
    page.shows("they can be simulated").await?;
    page.click("Take these equations").await?;
    page.shows("another rate of flow").await?;
    page.drawn().await?;

    // A valve with a table; a line that is no point is refused, the table before it stays.
    page.click("Actuator").await?;
    page.select("Characteristic", "table").await?;
    page.shows("opening %: flow %").await?;
    let table = "const area = document.querySelector('aside textarea'); area.value = '0: 0\\nhalf: 30';
        area.dispatchEvent(new Event('change'))";
    page.script(table).await?;
    page.shows("A table is written as").await?;
    page.click("Actuator").await?;

    // A run-away is stopped where it happens, and the trace until then is shown.
    page.click("Edit the equations").await?;
    page.click("In fields").await?;
    page.enter("Rate of flow", "flow * flow * flow / 1e3").await?;
    page.shows("they can be simulated").await?;
    page.click("Take these equations").await?;
    page.click("Loop and start").await?;
    page.click("start from given states").await?;
    page.shows("Stopped at").await?;
    page.drawn().await?;

    // The trial, its trace and its picture leave as files.
    let size = |form: &str| {
        format!(
            "const rows = await (await fetch('/api/v1/loops/FIC-101/trials')).json();
             const answer = await fetch(`/api/v1/trials/${{rows.at(-1).id}}/export?format={form}`);
             return answer.ok ? (await answer.arrayBuffer()).byteLength : 0"
        )
    };
    for form in ["json", "csv", "xlsx", "parquet"] {
        let bytes = page.script(&format!("return (async () => {{ {} }})()", size(form))).await?;
        assert!(bytes.as_f64().is_some_and(|bytes| bytes > 500.0), "{form}: {bytes}");
    }
    page.script(
        "window.saved = []; const make = URL.createObjectURL;
         URL.createObjectURL = (blob) => { window.saved.push([blob.type, blob.size]); return make(blob); }",
    )
    .await?;
    for (text, kind) in [("Picture as SVG", "image/svg+xml"), ("Picture as PNG", "image/png")] {
        page.click("Export").await?;
        page.click(text).await?;
        page.until(text, &format!("return window.saved.some(([type, size]) => type === '{kind}' && size > 5000)"))
            .await?;
    }
    page.close().await
}

#[tokio::test]
async fn a_long_trail_shows_its_newest_rows_and_older_ones_on_demand() -> Result<()> {
    let application = Application::start(&binary()?)?;
    let page = Page::open(1280, 800).await?;
    page.go(&application.address("/loops/TIC-204/control")).await?;
    page.drawn().await?;
    // A hundred and twenty trials more, as an evening of nudges leaves them.
    let keep = "const done = arguments[0];
        (async () => {
            const [row] = await (await fetch('/api/v1/loops/TIC-204/trials')).json();
            for (let k = 0; k < 120; k += 1) {
                row.trial.candidate.controller.gain = 1 + k / 100;
                const body = JSON.stringify({ trial: row.trial, label: `nudge ${k}` });
                const headers = { 'Content-Type': 'application/json' };
                await fetch('/api/v1/loops/TIC-204/trials', { method: 'POST', headers, body });
            }
            done(true);
        })()";
    page.client.execute_async(keep, vec![]).await?;
    page.shows("nudge 119").await?;
    let count = "document.querySelectorAll('table[aria-label=Trials] tbody tr').length";
    page.until("a part of the trail", &format!("return {count} >= 100 && {count} < 110")).await?;
    // The pinned one is among them, though it is the oldest.
    page.until("the pinned one", "return [...document.querySelectorAll('table[aria-label=Trials] tbody tr')].at(-1).innerText.includes('settings found on the plant')").await?;
    page.shows("further back").await?;
    page.click("Show older").await?;
    page.until("all of the trail", &format!("return {count} > 120")).await?;
    page.until("nothing further back", "return !document.body.innerText.includes('further back')").await?;
    page.close().await
}
