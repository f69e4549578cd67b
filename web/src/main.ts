import "@fontsource-variable/public-sans";
import "@fontsource/commit-mono";
import "./app.css";
import { mount } from "svelte";
import App from "./App.svelte";

mount(App, { target: document.getElementById("app")! });
