import { defineAsyncComponent } from 'vue'

/** What is large and not needed to read a page is loaded when it is drawn for the first time. */
export const PlotChart = defineAsyncComponent(() => import('./PlotChart.vue'))
export const MarkdownText = defineAsyncComponent(() => import('./MarkdownText.vue'))
export const FlowGraph = defineAsyncComponent(() => import('./FlowGraph.vue'))
