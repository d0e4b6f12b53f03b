import { chromium } from "playwright-core";
import { open, newShot, select, type, add, tab, computed, goTo, drawn, saved } from "./desk.mjs";
const address = "http://127.0.0.1:7801";
const browser = await chromium.launch({executablePath:'/usr/bin/chromium',args:['--no-sandbox','--disable-quic','--no-first-run','--disable-background-networking','--disable-component-update','--disable-sync','--use-gl=angle','--use-angle=swiftshader','--enable-unsafe-swiftshader']});
const page = await browser.newPage({viewport:{width:1280,height:800}});
page.setDefaultTimeout(15000);
page.on('console', m => { if (['error','warning'].includes(m.type())) console.log(m.type(), m.text()) });
page.on('pageerror', e => console.log('pageerror', e.message));
const shotTo = (n) => page.screenshot({path:`/tmp/w/${n}.png`});
const step = process.argv[2];
try { await (await import(`/tmp/w/steps-${step}.mjs`)).default({page, address, shotTo, open, newShot, select, type, add, tab, computed, goTo, drawn, saved}); } catch (e) { console.log(e.message.slice(0,600)); await shotTo("fail"); }
await browser.close();
