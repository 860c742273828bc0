//! A works of one's own, from an empty directory: by mouse, by keys only, in two tabs, and with a server that goes away.

use antistasis_e2e::{Application, Page, Result, binary, project};
use fantoccini::Locator;
use fantoccini::key::Key;
use std::time::{Duration, Instant};

/// Gives the page a file as a hand that lets it go over an element does.
async fn drop_file(page: &Page, target: &str, name: &str, text: &str) -> Result<()> {
    let (name, text) = (serde_json::Value::from(name), serde_json::Value::from(text));
    page.script(&format!(
        "const data = new DataTransfer();
         data.items.add(new File([{text}], {name}, {{ type: 'text/csv' }}));
         document.querySelector('{target}').dispatchEvent(
             new DragEvent('drop', {{ dataTransfer: data, bubbles: true, cancelable: true }}))"
    ))
    .await?;
    Ok(())
}

/// Whether the loop's newest trial leaves as a file, and the whole loop as an archive.
async fn leaves(page: &Page, tag: &str) -> Result<()> {
    let script = format!(
        "return (async () => {{
            const trials = await (await fetch('/api/v1/loops/{tag}/trials')).json();
            const trial = await fetch(`/api/v1/trials/${{trials.at(-1).id}}/export?format=xlsx`);
            const archive = await fetch('/api/v1/loops/{tag}/archive');
            return [trials.length > 1, trial.ok, (await archive.arrayBuffer()).byteLength > 3000];
        }})()"
    );
    assert_eq!(page.script(&script).await?, serde_json::json!([true, true, true]));
    Ok(())
}

/// From the tab that is open to another with the arrow keys.
async fn choose_tab(page: &Page, open: &str, wanted: &str) -> Result<()> {
    page.tab_to(open).await?;
    let there = format!("return document.activeElement.innerText.startsWith('{wanted}')");
    for _ in 0..8 {
        if page.script(&there).await? == true {
            return page.type_keys(&Key::Enter.to_string()).await;
        }
        page.type_keys(&Key::Right.to_string()).await?;
    }
    Err(format!("the arrow keys do not come to “{wanted}”").into())
}

#[tokio::test(flavor = "multi_thread")]
async fn from_an_empty_directory_to_a_tuned_loop_of_ones_own() -> Result<()> {
    let application = Application::empty(&binary()?)?;
    let page = Page::open(1280, 800).await?;
    let begun = Instant::now();

    // A file dropped at home proposes its loop; what is wrong with the tag is said at it.
    page.go(&application.address("/")).await?;
    page.shows("Make your first loop").await?;
    let records = project().join("crates/exchange/tests/records");
    let file = std::fs::read_to_string(records.join("titles-and-units-row.csv"))?;
    drop_file(&page, "main", "reactor.csv", &file).await?;
    page.shows("The file seems to hold one loop").await?;
    page.enter("Area", "Calcining").await?;
    page.click("Make them, with the file as record").await?;
    page.shows("TIC-207").await?;
    page.until("the record", "return location.pathname === '/loops/TIC-207/measure'").await?;
    page.drawn().await?;

    // Modelled: gain 1.6, time constant 140 s, dead time 60 s were put into the file. Nobody has chosen it yet.
    page.click("Model it").await?;
    page.drawn().await?;
    page.click("Fit").await?;
    page.shows("Model A").await?;
    for (row, truth) in [(1, 1.6), (2, 140.0), (3, 60.0)] {
        let cell = format!(
            "return parseFloat(document.querySelector('table[aria-label=Parameters] tbody tr:nth-child({row}) td:nth-child(2)').innerText)"
        );
        let value = page.script(&cell).await?.as_f64().ok_or("no value")?;
        assert!((value / truth - 1.0).abs() < 0.06, "row {row}: {value} is not {truth}");
    }
    page.shows("Choose it as the model, because").await?;
    page.click("Control with it").await?;
    page.shows("model A, SIMC, τc").await?;
    page.click("Tune").await?;
    page.click("Find the best settings").await?;
    page.shows("All demands are met").await?;
    page.click("Take them").await?;
    page.shows("best PI").await?;
    leaves(&page, "TIC-207").await?;
    assert!(begun.elapsed() < Duration::from_secs(300), "{:?}", begun.elapsed());

    // Tidied: a trial goes into the bin after what hangs on it was named, and comes back; one is starred and found.
    let rows = "document.querySelectorAll('table[aria-label=Trials] tbody tr').length";
    let before = page.script(&format!("return {rows}")).await?.as_u64().ok_or("no rows")?;
    page.press("button[aria-label^='More for']").await?;
    page.click("Delete …").await?;
    page.shows("It stays in the bin for 30 days").await?;
    page.press("[role=dialog] .button-main").await?;
    page.until("a row less", &format!("return {rows} === {}", before - 1)).await?;
    page.click("Bring it back").await?;
    page.until("the row", &format!("return {rows} === {before}")).await?;

    // The loop is called otherwise; the address and the trail follow.
    page.press("button[aria-label^='Edit TIC-207']").await?;
    page.enter("Tag of the loop", "TIC-270").await?;
    page.click("Keep it").await?;
    page.until("the new address", "return location.pathname.startsWith('/loops/TIC-270')").await?;
    page.shows("best PI").await?;

    // The whole loop goes and comes back, from the home page.
    page.press("button[aria-label^='Edit TIC-270']").await?;
    page.click("Delete the loop").await?;
    page.shows("1 record").await?;
    page.press("[role=dialog] .button-main").await?;
    page.until("home", "return location.pathname === '/'").await?;
    page.shows("No loop in this area yet").await?;
    page.click("Bin (1)").await?;
    page.shows("loop TIC-270").await?;
    page.click("Bring back").await?;
    page.shows("Nothing was deleted").await?;
    page.click("Close").await?;
    page.until("the loop", "return document.querySelector(\"main a[href^='/loops/TIC-270']\") !== null").await?;
    page.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn the_same_with_keys_only() -> Result<()> {
    let application = Application::empty(&binary()?)?;
    let page = Page::open(1280, 800).await?;
    let begun = Instant::now();
    page.go(&application.address("/")).await?;
    page.shows("Make your first loop").await?;
    page.type_keys("n").await?;
    page.tab_to("Tag of the loop").await?;
    page.type_keys("FIC-9").await?;
    page.tab_to("Area").await?;
    page.type_keys("Feed").await?;
    page.tab_to("nothing: a record or a plant comes later").await?;
    page.type_keys(&Key::Up.to_string()).await?;
    page.tab_to("Make the loop").await?;
    page.type_keys(&Key::Enter.to_string()).await?;
    page.until("the loop", "return location.pathname === '/loops/FIC-9/control'").await?;

    // A record: a test is planned and run on the simulated plant.
    page.shows("SIMC").await?;
    page.type_keys("1").await?;
    page.until("Measure", "return location.pathname === '/loops/FIC-9/measure'").await?;
    choose_tab(&page, "Record", "Plan a test").await?;
    page.shows("expected of a fit").await?;
    page.tab_to("Run on the simulated plant").await?;
    page.type_keys(&Key::Enter.to_string()).await?;
    page.shows("times its noise").await?;

    // A model, settings under demands, and the file.
    page.type_keys("2").await?;
    page.until("Model", "return location.pathname === '/loops/FIC-9/model'").await?;
    page.drawn().await?;
    page.type_keys("f").await?;
    page.shows("Model A").await?;
    page.tab_to("Control with it").await?;
    page.type_keys(&Key::Enter.to_string()).await?;
    page.shows("model A, SIMC, τc").await?;
    choose_tab(&page, "Candidate", "Tune").await?;
    page.tab_to("Find the best settings").await?;
    page.type_keys(&Key::Enter.to_string()).await?;
    page.shows("All demands are met").await?;
    page.tab_to("Take them").await?;
    page.type_keys(&Key::Enter.to_string()).await?;
    page.shows("best PI").await?;
    page.tab_to("Export").await?;
    page.type_keys(&Key::Enter.to_string()).await?;
    page.shows("Picture as SVG").await?;
    page.type_keys(&Key::Escape.to_string()).await?;
    leaves(&page, "FIC-9").await?;
    assert!(begun.elapsed() < Duration::from_secs(300), "{:?}", begun.elapsed());

    // The plant is saved for the works, the hand stays where the next name would be typed, and another loop begins on it.
    choose_tab(&page, "Tune", "Plant").await?;
    page.tab_to("Saved plants").await?;
    page.type_keys(&Key::Enter.to_string()).await?;
    page.tab_to("Name to save this plant under").await?;
    page.type_keys(&format!("dosing line{}", &Key::Enter.to_string())).await?;
    page.shows("Saved plants (1)").await?;
    let stays = "return [document.activeElement.ariaLabel, document.activeElement.value]";
    assert_eq!(page.script(stays).await?, serde_json::json!(["Name to save this plant under", ""]));
    page.type_keys(&Key::Escape.to_string()).await?;
    page.go(&application.address("/")).await?;
    page.shows("FIC-9").await?;
    page.type_keys("n").await?;
    page.tab_to("Tag of the loop").await?;
    page.type_keys("FIC-10").await?;
    page.tab_to("nothing: a record or a plant comes later").await?;
    page.type_keys(&Key::Up.to_string()).await?;
    page.tab_to("Process of the plant").await?;
    page.type_keys("dosing").await?;
    page.tab_to("Make the loop").await?;
    page.type_keys(&Key::Enter.to_string()).await?;
    page.until("the loop", "return location.pathname === '/loops/FIC-10/control'").await?;
    page.shows("SIMC").await?;
    let same =
        "const plant = async (tag) => (await (await fetch(`/api/v1/loops/${tag}/trials`)).json())[0]?.trial.plant;
        return (async () => {
            const [one, other] = [await plant('FIC-9'), await plant('FIC-10')];
            return JSON.stringify(one.process) === JSON.stringify(other?.process);
        })()";
    page.until("a trial on the same process", same).await?;
    page.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn the_hand_of_another_is_seen_and_nothing_of_ones_own_is_lost() -> Result<()> {
    let mut application = Application::start(&binary()?)?;
    let page = Page::open(1280, 800).await?;
    page.go(&application.address("/loops/TIC-204/control")).await?;
    page.drawn().await?;
    page.shows("Stays stable until").await?;
    let rows = "document.querySelectorAll('table[aria-label=Trials] tbody tr').length";
    let before = page.script(&format!("return {rows}")).await?.as_u64().ok_or("no rows")?;

    // Another tab adds a trial: it stands in the trail of this one without a reload.
    let first = page.client.window().await?;
    let second = page.client.new_window(true).await?.handle;
    page.client.switch_to_window(second.clone()).await?;
    page.go(&application.address("/loops/TIC-204/control")).await?;
    page.drawn().await?;
    page.enter("Gain", "0.61").await?;
    page.type_keys(&Key::Enter.to_string()).await?;
    page.until("the row here", &format!("return {rows} === {}", before + 1)).await?;
    page.client.switch_to_window(first.clone()).await?;
    page.until("the row there", &format!("return {rows} === {}", before + 1)).await?;

    // Both edit the loop: the later one is told of the earlier, and both versions are shown.
    let edit = "button[aria-label^='Edit TIC-204']";
    page.press(edit).await?;
    page.enter("Name", "mine").await?;
    page.client.switch_to_window(second).await?;
    page.press(edit).await?;
    page.enter("Name", "theirs").await?;
    page.click("Keep it").await?;
    page.until("the dialog gone", "return document.querySelector('[role=dialog]') === null").await?;
    page.client.switch_to_window(first).await?;
    page.click("Keep it").await?;
    page.shows("yours").await?;
    page.shows("theirs").await?;
    page.click("Keep mine in its place").await?;
    page.until("the dialog gone", "return document.querySelector('[role=dialog]') === null").await?;
    page.shows("mine").await?;

    // The server goes while a number is changed. It is said; when the server is back all is tried again by itself.
    application.stop();
    page.enter("Gain", "0.77").await?;
    page.type_keys(&Key::Enter.to_string()).await?;
    page.shows("does not answer").await?;
    application.resume()?;
    page.until("the row", &format!("return {rows} === {}", before + 2)).await?;
    page.until("no refusal", "return !document.body.innerText.includes('does not answer')").await?;
    assert_eq!(page.entry("Gain").await?.prop("value").await?.as_deref(), Some("0.77"));

    // What is typed at one step is there when one comes back.
    page.type_keys(&Key::Escape.to_string()).await?;
    page.go(&application.address("/loops/TIC-204/model")).await?;
    page.drawn().await?;
    page.client.find(Locator::Css("textarea")).await?.send_keys("half a reason").await?;
    page.click("Measure").await?;
    page.drawn().await?;
    page.click("Model").await?;
    page.until("the reason", "return document.querySelector('textarea')?.value.endsWith('half a reason')").await?;
    page.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn curves_are_drawn_where_the_axis_says_and_the_hand_stays_free() -> Result<()> {
    let application = Application::start(&binary()?)?;
    let page = Page::open(1280, 800).await?;
    page.go(&application.address("/loops/TIC-204/measure")).await?;
    page.drawn().await?;

    // Zoomed three times, the middle of the first panel shows other pixels; back again, the ones it showed at first.
    let ink = "return (() => {
        const canvas = document.querySelector('canvas');
        const data = canvas.getContext('2d').getImageData(0, 0, canvas.width, canvas.height).data;
        const columns = [];
        for (let x = Math.round(canvas.width * 0.15); x < canvas.width * 0.85; x += 7) {
            let sum = 0, count = 0;
            for (let y = Math.round(canvas.height * 0.2); y < canvas.height * 0.95; y += 1) {
                const k = 4 * (y * canvas.width + x);
                const dark = data[k] + data[k + 1] + data[k + 2] < 420;
                if (data[k + 3] > 60 && dark) { sum += y; count += 1; }
            }
            columns.push(count ? Math.round(sum / count) : -1);
        }
        return columns.join();
    })()";
    let whole = page.script(ink).await?;
    assert!(whole.as_str().is_some_and(|text| text.split(',').filter(|place| *place != "-1").count() > 20), "{whole}");
    page.script("document.querySelector('[aria-label=Strip] [role=group]').focus()").await?;
    for _ in 0..3 {
        page.type_keys("+").await?;
    }
    page.until("other curves", &format!("return (() => {{ {ink} }})() !== {whole}")).await?;
    page.drawn().await?;
    // What is drawn is what the samples in sight say: the curve turns where they turn.
    page.type_keys("0").await?;
    page.until("the curves of the whole", &format!("return (() => {{ {ink} }})() === {whole}")).await?;

    // Ten nudges on a slow processor: the last is drawn soon, and no task blocks the hand for long.
    page.go(&application.address("/loops/TIC-204/control")).await?;
    page.drawn().await?;
    page.shows("Stays stable until").await?;
    page.slow_down(4.0).await?;
    page.script(
        "window.tasks = []; new PerformanceObserver((list) => window.tasks.push(...list.getEntries().map((one) => one.duration)))
             .observe({ type: 'longtask' })",
    )
    .await?;
    let gain = page.entry("Gain").await?;
    let begun = Instant::now();
    for _ in 0..10 {
        gain.send_keys(&Key::Up.to_string()).await?;
    }
    let wanted = gain.prop("value").await?.ok_or("no gain")?;
    page.until("the last one drawn", "return performance.getEntriesByName('antistasis-change').length === 0 || document.querySelector('[aria-busy=true]') === null").await?;
    page.shows(&format!("→ {wanted}")).await?;
    let tasks = page.script("return window.tasks.map(Math.round)").await?;
    println!("ten nudges at a quarter of the speed: {:?}, long tasks {tasks}", begun.elapsed());
    assert!(begun.elapsed() < Duration::from_secs(60), "{:?}", begun.elapsed());
    page.slow_down(1.0).await?;

    // Tab through the import changes nothing.
    page.go(&application.address("/loops/TIC-204/measure")).await?;
    page.drawn().await?;
    let file = project().join("demo/records/TIC-204-doublet.csv").canonicalize()?;
    page.client.find(Locator::Css("input[type=file]")).await?.send_keys(&file.to_string_lossy()).await?;
    page.shows("decimal comma").await?;
    let state = "return [...document.querySelectorAll('[role=dialog] select, [role=dialog] input')].map((one) => one.type === 'radio' || one.type === 'checkbox' ? one.checked : one.value).join('|')";
    let before = page.script(state).await?;
    for _ in 0..40 {
        page.type_keys(&Key::Tab.to_string()).await?;
    }
    assert_eq!(page.script(state).await?, before);
    // A click beside the dialog loses nothing.
    page.script("document.elementFromPoint(8, 400).click()").await?;
    assert_eq!(page.script(state).await?, before);
    page.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn without_the_token_a_browser_sees_nothing_and_with_it_everything() -> Result<()> {
    let application = Application::empty(&binary()?)?;
    let page = Page::open(1280, 800).await?;
    page.go(&application.bare_address("/")).await?;
    page.shows("This page needs the token of the server").await?;
    page.enter("Token", "not this one").await?;
    page.click("Open").await?;
    page.shows("That is not the token of this server.").await?;
    page.shows("This page needs the token").await?;
    // The whole address as it was printed, pasted into the entry.
    page.enter("Token", &application.address("/")).await?;
    page.click("Open").await?;
    page.shows("Make your first loop").await?;
    let address = page.script("return location.href + document.cookie").await?;
    assert_eq!(address, application.bare_address("/"), "neither the address nor a script holds the token");
    // From then on it needs none, on any page.
    page.go(&application.bare_address("/loops/NONE/control")).await?;
    page.shows("All loops").await?;
    page.close().await
}
