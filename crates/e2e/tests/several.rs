//! Several loops on one plant: how they act on each other.

use antistasis_e2e::{Application, Page, Result, binary};

/// Figures of the table of relative gains, row by row, and how many cells are framed.
const GAINS: &str = "return (() => {
    const region = document.querySelector('[aria-label=\"Relative gains at rest\"]');
    if (!region) return null;
    const cells = [...region.querySelectorAll('tbody tr')].map((row) =>
        [...row.querySelectorAll('td')].map((cell) => Number(cell.firstChild.textContent.trim().replace('−', '-'))));
    const framed = region.querySelectorAll('td.border-pv').length;
    return { cells, framed };
})()";

#[tokio::test(flavor = "multi_thread")]
async fn loops_on_one_plant_are_paired_and_other_signals_are_chosen() -> Result<()> {
    let application = Application::start(&binary()?)?;
    let page = Page::open(1280, 800).await?;
    page.go(&application.address("/loops/AIC-320/control?view=interaction")).await?;
    page.shows("Relative gains at rest").await?;
    page.shows("Pair concentration with").await?;
    let gains = page.script(GAINS).await?;
    assert_eq!(gains["framed"], 2, "{gains}");
    let value = |gains: &serde_json::Value, i: usize, j: usize| gains["cells"][i][j].as_f64().unwrap_or(f64::NAN);
    // From its definition: each row sums to 1 (here to the three digits that are shown).
    for row in 0..2 {
        assert!((value(&gains, row, 0) + value(&gains, row, 1) - 1.0).abs() < 0.01, "{gains}");
    }

    // Another span changes the gains that are shown, not the relative ones.
    page.click("Between which signals").await?;
    page.click("Another pair").await?;
    page.until("three outputs", &format!("return (() => {{ {GAINS} }})()?.cells.length === 3")).await?;
    let three = page.script(GAINS).await?;
    assert_eq!(three["framed"], 3, "{three}");
    page.click("Without the last pair").await?;
    page.until("two outputs", &format!("return (() => {{ {GAINS} }})()?.cells.length === 2")).await?;
    assert_eq!(page.script(GAINS).await?["cells"], gains["cells"]);

    // What was chosen is there after another view.
    page.click("Another pair").await?;
    page.until("three outputs", &format!("return (() => {{ {GAINS} }})()?.cells.length === 3")).await?;
    page.click("Course").await?;
    page.drawn().await?;
    page.click("Interaction").await?;
    page.until("what was chosen", &format!("return (() => {{ {GAINS} }})()?.cells.length === 3")).await?;
    page.click("As usual").await?;
    page.until("two outputs", &format!("return (() => {{ {GAINS} }})()?.cells.length === 2")).await?;
    page.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pairing_becomes_a_trial_of_two_loops_that_are_set_one_by_one() -> Result<()> {
    let application = Application::start(&binary()?)?;
    let page = Page::open(1280, 800).await?;
    // The blend of the demo has two loops on one plant: both are on the strip, each with its set point and its OP.
    page.go(&application.address("/loops/AIC-320/control")).await?;
    page.drawn().await?;
    for tag in ["AIC-320.PV", "AIC-320.OP", "FIC-322.PV", "FIC-322.OP"] {
        page.shows(tag).await?;
    }
    page.shows("of AIC-320, the other loops closed").await?;
    let rows = "return (async () => (await (await fetch('/api/v1/loops/AIC-320/trials')).json()).length)()";
    let before = page.script(rows).await?.as_u64().unwrap_or(0);

    // The other loop in focus: its figures, its settings, its events.
    page.click("FIC-322").await?;
    page.shows("of FIC-322, the other loops closed").await?;
    page.shows("Measures").await?;
    page.enter("Gain", "0.9").await?;
    page.until("the change in the trail", &format!("return (async () => (await (await fetch('/api/v1/loops/AIC-320/trials')).json()).length)().then((count) => count > {before})")).await?;
    let label = "return (async () => (await (await fetch('/api/v1/loops/AIC-320/trials')).json())[0].label)()";
    let label = page.script(label).await?;
    assert!(label.as_str().unwrap_or("").starts_with("FIC-322: gain "), "{label}");
    page.click("Scenario").await?;
    page.shows("SP +").await?;

    // Panels are moved and folded, and stay so.
    let shown = "return [...document.querySelectorAll('[data-panel] strong')].map((title) => title.textContent)";
    let titles = page.script(shown).await?;
    assert_eq!(titles.as_array().map(Vec::len), Some(5), "{titles}");
    page.press("[aria-label='Axis of FIC-322.PV']").await?;
    page.click("Up").await?;
    page.until("the panel moved up", &format!("return (() => {{ {shown} }})()[1] === 'FIC-322.PV'")).await?;
    page.press("[aria-label='Axis of AIC-320.OP']").await?;
    page.click("Fold").await?;
    page.until("four panels", &format!("return (() => {{ {shown} }})().length === 4")).await?;
    page.click("Balances").await?;
    page.click("Course").await?;
    page.until("four panels as before", &format!("return (() => {{ {shown} }})().length === 4")).await?;
    page.press("[aria-label='Open AIC-320.OP']").await?;
    page.click("all as they come").await?;
    page.until("all as they came", &format!("return JSON.stringify((() => {{ {shown} }})()) === '{titles}'")).await?;

    // Over frequency: the loop in focus with the other closed, and both together.
    page.click("Frequency").await?;
    page.shows("FIC-322, the others closed").await?;
    page.shows("Sensitivities").await?;
    page.click_radio("AIC-320, FIC-322 together").await?;
    page.shows("Characteristic loci").await?;
    page.shows("from the worst direction").await?;

    // From another pairing of the view of interaction: a trial with a controller a pair, tuned as it is asked for.
    page.click("Interaction").await?;
    page.shows("Relative gains at rest").await?;
    page.select("How the loops are tuned", "one_by_one").await?;
    page.click("Control these").await?;
    page.drawn().await?;
    page.shows("the other loops closed").await?;
    let controllers = "return (async () => {
        const [row] = await (await fetch('/api/v1/loops/AIC-320/trials')).json();
        return row.trial.candidate.further.length;
    })()";
    page.until("two controllers", &format!("{controllers}.then((count) => count === 1)")).await?;
    let label = "return (async () => (await (await fetch('/api/v1/loops/AIC-320/trials')).json())[0].label)()";
    page.until("how they were tuned", &format!("{label}.then((label) => label.includes('one after the other'))"))
        .await?;
    page.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_matrix_is_fitted_cell_by_cell_looked_at_and_controlled() -> Result<()> {
    let application = Application::start(&binary()?)?;
    let page = Page::open(1280, 800).await?;
    // The record of the blend has two PVs and two OPs; the demo's matrix is there, with all its ways.
    page.go(&application.address("/loops/AIC-320/model?view=cells")).await?;
    for way in ["AIC-320.PV by FIC-322.OP", "FIC-322.PV by AIC-320.OP"] {
        page.shows(way).await?;
    }
    page.shows("95 % band").await?;
    let plots = "return document.querySelectorAll('main svg path').length";
    assert!(page.script(plots).await?.as_u64().unwrap_or(0) >= 4);

    // Another one: what is measured and driven is taken as it was recorded, one cell is left empty.
    page.click("New model").await?;
    page.select("Structure", "matrix").await?;
    page.select("From AIC-320.OP to FIC-322.PV", "none").await?;
    page.select("From AIC-320.OP to AIC-320.PV", "two_lags").await?;
    page.click("Fit").await?;
    page.shows("nothing goes from AIC-320.OP to FIC-322.PV").await?;
    // Without that way the flow is explained badly, and this is said of the flow.
    page.shows("FIC-322.PV").await?;
    let newest = "return (async () => (await (await fetch('/api/v1/loops/AIC-320/models')).json())[0].model)()";
    let model = page.script(newest).await?;
    assert_eq!(model["rows"][0]["structure"]["kind"], "two_lags", "{model}");
    assert_eq!(model["rows"][1]["inputs"].as_array().map(Vec::len), Some(1));

    // One output by itself, in every view that is about one.
    page.click("Curves").await?;
    page.drawn().await?;
    page.select("Output that is shown", "FIC-322.PV").await?;
    page.shows("FIC-322.PV and model").await?;
    page.click("Step").await?;
    page.shows("Step response").await?;

    // The chosen matrix begins a trial of two loops.
    let chosen = "return (async () => (await (await fetch('/api/v1/loops/AIC-320/models')).json()).find((row) => row.chosen).id)()";
    let chosen = page.script(chosen).await?;
    page.go(&application.address(&format!("/loops/AIC-320/model?model={}", chosen.as_str().unwrap_or_default())))
        .await?;
    page.click("Control with it").await?;
    page.shows("the other loops closed").await?;
    let label = "return (async () => (await (await fetch('/api/v1/loops/AIC-320/trials')).json())[0].label)()";
    page.until("the trial on the matrix", &format!("{label}.then((label) => label.includes('2 loops, detuned'))"))
        .await?;
    page.close().await
}
