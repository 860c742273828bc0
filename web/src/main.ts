import { createApp } from "vue";
import App from "./App.vue";
import { followTheme } from "./lib/theme";
import { router } from "./router";
import "./style.css";

followTheme();
createApp(App).use(router).mount("#app");
