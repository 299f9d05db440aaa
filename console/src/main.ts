import { mount } from "svelte";
import "./app.css";
import "./lib/unsaved";
import App from "./App.svelte";
import "./lib/renewed";
import { applyTheme } from "./lib/theme";

applyTheme();
matchMedia("(prefers-color-scheme: dark)").addEventListener("change", applyTheme);
mount(App, { target: document.getElementById("app")! });
