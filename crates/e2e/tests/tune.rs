//! Tuning, driven as a user drives it: rules, the search under demands, the trade-off, robustness, other controllers.

use antistasis_e2e::{Application, Page, Result, binary};

#[tokio::test(flavor = "multi_thread")]
async fn settings_are_taken_from_rules_and_searches_and_their_robustness_is_seen() -> Result<()> {
    let application = Application::start(&binary()?)?;
    let page = Page::open(1280, 800).await?;

    // A rule with its source and its caution; taken, it stands in the trail by its name.
    page.go(&application.address("/loops/TIC-204/control")).await?;
    page.drawn().await?;
    page.click("Tune").await?;
    page.shows("Cohen–Coon").await?;
    let press = "document.querySelector(\"button[aria-label='Take Cohen–Coon']\").click(); return true";
    page.script(press).await?;
    page.shows("Cohen–Coon PI").await?;

    // A search that keeps its demands, and one that cannot says what would have to give way.
    page.click("Find the best settings").await?;
    page.shows("All demands are met; at its limit: max sensitivity").await?;
    page.click("Take them").await?;
    page.shows("best PI, Ms 1.6").await?;
    page.enter("Rise time below", "3").await?;
    page.click("Find the best settings").await?;
    page.shows("No settings keep all demands").await?;
    page.shows("With rise time allowed up to").await?;

    // Over frequency, over mismatch, and the trade-off, from which a point is taken.
    page.click("Frequency").await?;
    page.shows("White noise of 1 % at the PV").await?;
    page.click("Mismatch").await?;
    page.shows("With the dead time as modelled it is stable until").await?;
    page.shows("of 200 plants").await?;
    page.click("Trade-off").await?;
    page.click("Draw it").await?;
    page.shows("Press a point to take its settings").await?;
    // The curves come point by point; each can be taken as soon as it is there.
    let is_there = "return document.querySelector(\"g[role=button][aria-label^='Take PID']\") !== null";
    page.until("a point of the PID curve", is_there).await?;
    let point = "const point = document.querySelector(\"g[role=button][aria-label^='Take PID']\");
        point.dispatchEvent(new MouseEvent('click', { bubbles: true })); return point.getAttribute('aria-label')";
    let taken = page.script(point).await?;
    assert!(taken.as_str().is_some_and(|text| text.contains("Td")), "{taken}");
    page.shows("PID, Ms 1.").await?;

    // Other controllers: a relay is read, a predictor has margins, what adapts shows what it learns.
    page.click("Course").await?;
    page.click("Candidate").await?;
    page.select("Controller", "relay").await?;
    page.shows("Ultimate gain").await?;
    page.select("Controller", "smith").await?;
    page.shows("PID on the prediction").await?;
    page.shows("Stays stable until").await?;
    page.select("Controller", "self_tuning").await?;
    page.shows("Forgetting factor").await?;
    page.select("Controller", "pid").await?;
    page.click("To type in").await?;
    page.select("Form", "series").await?;
    page.shows("To type in").await?;
    page.close().await
}
