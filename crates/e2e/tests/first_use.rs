//! What a hand meets that is new to the program: entries that cannot be, and small things that must not surprise.

use antistasis_e2e::{Application, Page, Result, binary};
use fantoccini::Locator;
use fantoccini::key::Key;

/// What is refused on the page, all of it.
const REFUSED: &str = "[...document.querySelectorAll('[role=alert]')].map((one) => one.innerText).join(' | ')";

async fn refuses(page: &Page, words: &str) -> Result<()> {
    page.until(&format!("“{words}”"), &format!("return ({REFUSED}).includes(`{words}`)")).await
}

async fn choose_record(page: &Page, name: &str) -> Result<()> {
    let row = format!(
        "[...document.querySelectorAll('table[aria-label=Records] tbody tr')].find((row) => row.innerText.includes('{name}'))"
    );
    page.until(name, &format!("return {row} !== undefined")).await?;
    page.script(&format!("{row}.click()")).await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_preparation_takes_times_as_they_are_typed_and_leaves_something() -> Result<()> {
    let application = Application::start(&binary()?)?;
    let page = Page::open(1280, 800).await?;

    // Home tells what there is of a loop, with the fit that the loop itself tells.
    page.go(&application.address("/")).await?;
    page.shows("Brine heating").await?;
    let row = |tag: &str| {
        format!("[...document.querySelectorAll('main a')].find((one) => one.innerText.includes('{tag}')).innerText")
    };
    for (tag, words) in [("LIC-110", "2 trials"), ("FIC-101", "to be modelled"), ("TIC-204", "FOPDT 93.9 %")] {
        assert!(page.script(&format!("return {}.includes('{words}')", row(tag))).await? == true, "{tag}: {words}");
    }
    page.go(&application.address("/loops/TIC-204/measure")).await?;
    page.shows("FOPDT 93.9 %").await?;

    // The top line is about the record that is chosen.
    let top = "document.querySelector('header').innerText";
    page.until("the step test's length", &format!("return {top}.includes('91 min')")).await?;
    choose_record(&page, "Three weeks").await?;
    page.until("the length of three weeks", &format!("return {top}.includes('21 d')")).await?;
    choose_record(&page, "Step test").await?;
    page.until("the step test's length", &format!("return {top}.includes('91 min')")).await?;

    // A stretch is cut in minutes; all of the record is not.
    page.click("Prepare").await?;
    page.select("Add a step", "cut_out").await?;
    page.enter("to", "100 min").await?;
    page.click("Apply").await?;
    refuses(&page, "is all that the PV has: leave some of it").await?;
    page.enter("to", "2 min").await?;
    page.click("Apply").await?;
    page.shows("61 samples taken out").await?;

    // What is no time is not sent: it stays, with what is allowed.
    page.select("Add a step", "window").await?;
    page.enter("to", "30 furlongs").await?;
    page.click("Apply").await?;
    page.shows("a time, such as 90, 2 h or 36:10").await?;
    assert_eq!(page.entry("to").await?.prop("value").await?.as_deref(), Some("30 furlongs"));
    assert!(page.script("return document.body.innerText.includes('2. ')").await? == false, "it was taken");
    page.click("Cancel").await?;

    // Nor is a unit that is none, nor a formula that is no number anywhere.
    page.select("Add a step", "convert").await?;
    page.click("Apply").await?;
    refuses(&page, "Give the unit that TIC-204.PV is to be converted to").await?;
    page.click("Cancel").await?;
    page.select("Add a step", "compute").await?;
    page.enter("new tag", "RATIO").await?;
    page.enter("formula", "{TIC-204.PV} / (1 - 1)").await?;
    page.click("Apply").await?;
    refuses(&page, "look for a division by zero").await?;
    // With the step that is left goes what was refused of it.
    page.click("Cancel").await?;
    page.until("nothing refused", &format!("return ({REFUSED}) === ''")).await?;

    // Everything that has a name is found: records, models, trials.
    for (text, found) in
        [("three weeks", "Three weeks of operation"), ("found on the plant", "settings found on the plant")]
    {
        page.key("/").await?;
        page.until("the entry", "return document.activeElement?.getAttribute('aria-label') === 'Find anything'")
            .await?;
        page.type_keys(text).await?;
        let listed = "[...document.querySelectorAll('[role=option]')].map((one) => one.innerText).join(' | ')";
        page.until(found, &format!("return ({listed}).includes('{found}')")).await?;
        page.type_keys(&Key::Escape.to_string()).await?;
        page.until("no entry", "return document.activeElement?.getAttribute('aria-label') !== 'Find anything'").await?;
    }
    page.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn an_import_is_refused_at_its_column_and_a_course_may_end_before_its_events() -> Result<()> {
    let application = Application::start(&binary()?)?;
    let page = Page::open(1280, 800).await?;
    page.go(&application.address("/loops/TIC-204/measure")).await?;
    page.drawn().await?;

    // A unit that is none of temperature is refused at its column, before anything is stored; the order of day and month is the chosen one.
    let directory = tempfile::TempDir::new()?;
    let file = directory.path().join("us.csv");
    let rows =
        (1..12).map(|day| format!("03/{day:02}/2026 00:00,{},{}\n", 70 + day % 4, if day < 5 { 40 } else { 45 }));
    std::fs::write(&file, format!("date,PV [furlong],OP\n{}", rows.collect::<String>()))?;
    page.client.find(Locator::Css("input[type=file]")).await?.send_keys(&file.to_string_lossy()).await?;
    page.shows("decimal point").await?;
    page.click("Import").await?;
    refuses(&page, "PV is in “furlong”, and the PV of TIC-204 in °C").await?;
    page.enter("Unit of PV", "°C").await?;
    page.pick("Order of day and month", "day/month/year").await?;
    page.click("Import").await?;
    let starts = "[...document.querySelectorAll('table[aria-label=Records] tbody tr')].find((row) => row.innerText.includes('us'))?.innerText";
    page.until("a record that begins in January", &format!("return ({starts} ?? '').includes('2026-01-03')")).await?;

    // A course may be shorter than its events: they stay, and are said not to happen.
    page.go(&application.address("/loops/LIC-110/control")).await?;
    page.drawn().await?;
    page.click("Scenario").await?;
    page.enter("Duration", "30 min").await?;
    page.type_keys(&Key::Enter.to_string()).await?;
    page.shows("lies after the end at 30 min: it does not happen").await?;
    page.shows("duration 4 h → 30 min").await?;

    // A rate that divides by zero is refused at its field.
    page.go(&application.address("/loops/FIC-101/control")).await?;
    page.drawn().await?;
    page.click("Plant").await?;
    page.click("Edit the equations").await?;
    page.click("In fields").await?;
    page.enter("Rate of flow", "flow / 0").await?;
    page.shows("look for a division by zero").await?;
    page.shows("1 to be mended").await?;
    page.close().await
}
