//! What meets the eye and the hand in every view: accessibility rules, paper, small windows.

use antistasis_e2e::{Application, Page, Result, binary, project};
use serde_json::Value;

/// Every view of every step, with a text or an element that says that it is there.
const VIEWS: [&str; 38] = [
    "/",
    "/loops/TIC-204/measure",
    "/loops/TIC-204/measure?view=plan",
    "/loops/TIC-204/measure?view=prepare",
    "/loops/TIC-204/measure?view=read",
    "/loops/TIC-204/measure?view=signals",
    "/loops/TIC-204/model",
    "/loops/TIC-204/model?view=residuals",
    "/loops/TIC-204/model?view=step",
    "/loops/TIC-204/model?view=frequency",
    "/loops/TIC-204/model?view=poles",
    "/loops/TIC-204/model?view=uncertainty",
    "/loops/TIC-204/model?view=data",
    "/loops/TIC-204/model?view=orders",
    "/loops/TIC-204/model?view=time",
    "/loops/TIC-204/control",
    "/loops/TIC-204/control?view=frequency",
    "/loops/TIC-204/control?view=robustness",
    "/loops/TIC-204/control?view=trade-off",
    "/loops/TIC-204/prove",
    "/loops/TIC-204/prove?view=strips",
    "/loops/TIC-204/prove?view=spread",
    "/loops/TIC-204/prove?view=trade",
    "/loops/TIC-204/prove?view=frequency",
    "/loops/TIC-204/hand-over",
    "/loops/TIC-204/hand-over?view=text",
    "/loops/TIC-204/hand-over?view=dossier",
    "/loops/TIC-501/model?view=online",
    "/loops/TIC-501/model?view=balance",
    "/loops/TIC-310/control?view=balances",
    "/loops/TIC-310/control?view=operating",
    "/loops/AIC-320/control?view=interaction",
    "/loops/AIC-320/model?view=cells",
    "/loops/TIC-310/control?view=channels",
    "/loops/TIC-310/control?view=sweep",
    "/loops/AIC-310/measure",
    "/loops/AIC-310/model",
    "/loops/XIC-9/control",
];

/// Those views, and what the predictive controller of AIC-320 plans, which is a view of one of its trials.
async fn views(page: &Page, application: &Application) -> Result<Vec<String>> {
    page.go(&application.address("/")).await?;
    let ahead = page.predictive_trial("AIC-320", "view=ahead&").await?;
    Ok(VIEWS.iter().map(|view| (*view).to_owned()).chain([ahead]).collect())
}

/// What the accessibility rules find that is serious, in words.
async fn serious(page: &Page, axe: &str) -> Result<Vec<String>> {
    page.script(&format!("if (!window.axe) {{ {axe} }}")).await?;
    let run = "const done = arguments[0];
        axe.run(document, { resultTypes: ['violations'] }).then((found) => done(found.violations
            .filter((one) => ['serious', 'critical'].includes(one.impact))
            .flatMap((one) => one.nodes.map((node) => `${one.id}: ${node.html.slice(0, 160)} ${node.failureSummary.slice(0, 240)}`))),
            (error) => done([String(error)]))";
    let found = page.client.execute_async(run, vec![]).await?;
    let texts = found.as_array().ok_or("no findings")?.iter().filter_map(Value::as_str);
    Ok(texts.map(|text| text.replace('\n', " ")).collect())
}

#[tokio::test(flavor = "multi_thread")]
async fn no_view_has_a_serious_barrier_in_any_theme_or_size() -> Result<()> {
    let application = Application::start(&binary()?)?;
    let axe = std::fs::read_to_string(project().join("web/node_modules/axe-core/axe.min.js"))?;
    let page = Page::open(1280, 800).await?;
    let views = views(&page, &application).await?;
    let mut barriers = Vec::new();
    // Every view in both themes; of the smaller windows, the last of which is 1280×800 at 200 %, every fourth.
    for (theme, width, height, every) in
        [("light", 1280, 800, 1), ("dark", 1280, 800, 1), ("light", 1024, 700, 4), ("dark", 640, 400, 4)]
    {
        page.size(width, height).await?;
        page.go(&application.address("/")).await?;
        page.script(&format!("localStorage.setItem('antistasis-theme', '{theme}')")).await?;
        for view in views.iter().step_by(every) {
            page.go(&application.address(view)).await?;
            page.settled().await?;
            for text in serious(&page, &axe).await? {
                barriers.push(format!("{view} {theme} {width}: {text}"));
            }
        }
    }
    assert!(barriers.is_empty(), "{} barriers:\n{}", barriers.len(), barriers.join("\n"));
    page.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn at_double_size_everything_can_be_reached() -> Result<()> {
    let application = Application::start(&binary()?)?;
    let page = Page::open(640, 400).await?;
    page.go(&application.address("/loops/TIC-204/measure")).await?;
    page.drawn().await?;
    // The buttons of the import dialog can be scrolled to.
    let file = project().join("demo/records/TIC-204-doublet.csv").canonicalize()?;
    page.client.find(fantoccini::Locator::Css("input[type=file]")).await?.send_keys(&file.to_string_lossy()).await?;
    page.shows("decimal comma").await?;
    let reach = "const button = [...document.querySelectorAll('[role=dialog] button')].find((one) => one.innerText.trim() === 'Import');
        button.scrollIntoView(); const box = button.getBoundingClientRect();
        return box.top >= 0 && box.bottom <= innerHeight && box.left >= 0 && box.right <= innerWidth";
    page.until("the button of the import in sight", reach).await?;
    page.click("Cancel").await?;
    // Nor is anything of a step cut off at the right.
    for view in ["/", "/loops/TIC-204/control", "/loops/TIC-204/model"] {
        page.go(&application.address(view)).await?;
        page.settled().await?;
        let cut = "return [...document.querySelectorAll('header a, header button, main button')]
            .filter((one) => one.offsetParent && !one.closest('[aria-label=Trail]') && one.getBoundingClientRect().left >= innerWidth).map((one) => one.innerText)";
        assert_eq!(page.script(cut).await?, serde_json::json!([]), "{view}");
    }
    page.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn every_view_prints_whole_and_light() -> Result<()> {
    let application = Application::start(&binary()?)?;
    let page = Page::open(1280, 800).await?;
    page.go(&application.address("/")).await?;
    page.script("localStorage.setItem('antistasis-theme', 'dark')").await?;
    for view in views(&page, &application).await?.iter().filter(|view| !view.contains("XIC")) {
        page.go(&application.address(view)).await?;
        page.settled().await?;
        page.media("print").await?;
        page.settled().await?;
        // Paper is 980 pixels wide at most; it is light, and nothing hides in a box that scrolls.
        let state = page
            .script(
                "const light = getComputedStyle(document.body).backgroundColor.match(/[\\d.]+/g).map(Number);
                 const cut = [...document.querySelectorAll('main *, aside *, table')].filter((one) => {
                     const style = getComputedStyle(one);
                     return ['auto', 'scroll', 'hidden'].includes(style.overflowY) && one.scrollHeight > one.clientHeight + 8
                         && one.clientHeight > 40 && one.tagName !== 'TEXTAREA' && style.visibility !== 'hidden';
                 }).map((one) => one.className.toString().slice(0, 60));
                 return { light: light.slice(0, 3).every((part) => part > 200) || light[3] === 0,
                     title: document.body.innerText.includes('Antistasis'), cut }",
            )
            .await?;
        assert_eq!((&state["light"], &state["cut"]), (&true.into(), &serde_json::json!([])), "{view}: {state}");
        page.media("").await?;
    }
    page.close().await
}

/// How many pages a PDF has, and its text, by an outside reader.
fn read_pdf(bytes: &[u8]) -> Result<(usize, String)> {
    let file = tempfile::NamedTempFile::new()?;
    std::fs::write(file.path(), bytes)?;
    let run = |program: &str, more: &[&str]| -> Result<String> {
        let output = std::process::Command::new(program).arg(file.path()).args(more).output()?;
        assert!(output.status.success(), "{program}: {}", String::from_utf8_lossy(&output.stderr));
        Ok(String::from_utf8(output.stdout)?)
    };
    let pages = run("pdfinfo", &[])?;
    let count = pages.lines().find_map(|line| line.strip_prefix("Pages:")).ok_or("no number of pages")?;
    Ok((count.trim().parse()?, run("pdftotext", &["-layout", "-"])?))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dossier_has_no_barrier_and_six_pages_at_most() -> Result<()> {
    let application = Application::start(&binary()?)?;
    let axe = std::fs::read_to_string(project().join("web/node_modules/axe-core/axe.min.js"))?;
    let page = Page::open(1280, 800).await?;
    page.go(&application.address("/")).await?;
    let export = |form: &str| format!("/api/v1/loops/TIC-204/dossier/export?form={form}");
    page.go(&application.address(&export("page"))).await?;
    assert_eq!(serious(&page, &axe).await?, Vec::<String>::new());
    // Whoever does not see the curves is told of them, and headings are in order.
    let whole = "return [document.querySelectorAll('figure').length > 3,
        [...document.querySelectorAll('figure')].every((one) => one.querySelector('[role=img]').getAttribute('aria-label').length > 10),
        document.querySelectorAll('h1').length, document.documentElement.scrollWidth <= innerWidth]";
    assert_eq!(page.script(whole).await?, serde_json::json!([true, true, 1, true]));
    let printed = page.client.print(fantoccini::wd::PrintConfiguration::default()).await?;
    let (pages, text) = read_pdf(&printed)?;
    assert!(pages <= 6, "{pages} pages on paper");
    assert!(text.contains("Settings to type in") && text.contains("Where this comes from"), "{text}");
    // The file of its own: the same, with text that can be searched.
    let file = application.signed_in().await?.get(application.address(&export("pdf"))).send().await?.bytes().await?;
    let (pages, text) = read_pdf(&file)?;
    assert!(pages <= 6, "{pages} pages of PDF");
    for wanted in ["Settings to type in", "Integral time", "°C", "page 1 of", "SHA-256", "before the summer"] {
        assert!(text.contains(wanted), "no {wanted} in {text}");
    }
    page.close().await
}
