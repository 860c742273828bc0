import { createRouter, createWebHistory } from "vue-router";
import ControlStep from "./pages/ControlStep.vue";
import HandOverStep from "./pages/HandOverStep.vue";
import HomePage from "./pages/HomePage.vue";
import LoopPage from "./pages/LoopPage.vue";
import MeasureStep from "./pages/MeasureStep.vue";
import ModelStep from "./pages/ModelStep.vue";
import ProveStep from "./pages/ProveStep.vue";

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: "/", name: "home", component: HomePage },
    {
      path: "/loops/:tag",
      component: LoopPage,
      props: true,
      children: [
        { path: "", redirect: (to) => ({ name: "measure", params: to.params }) },
        { path: "measure", name: "measure", component: MeasureStep },
        { path: "model", name: "model", component: ModelStep },
        { path: "control", name: "control", component: ControlStep },
        { path: "prove", name: "prove", component: ProveStep },
        { path: "hand-over", name: "hand-over", component: HandOverStep },
      ],
    },
    { path: "/:rest(.*)", redirect: "/" },
  ],
});

router.afterEach((to) => {
  const step = {
    measure: "Measure",
    model: "Model",
    control: "Control",
    prove: "Prove",
    "hand-over": "Hand over",
  }[String(to.name)];
  const tag = typeof to.params.tag === "string" ? `${to.params.tag}${step ? `, ${step}` : ""} · ` : "";
  document.title = `${tag}Antistasis`;
});
