<script setup lang="ts">
import { computed } from 'vue'

import { useAround } from '../composables/data'
import MarkList from './MarkList.vue'
import StateWord from './StateWord.vue'
import TimeAgo from './TimeAgo.vue'

// What stands around an incident: how wide it is, what happened before, outliers, when it happened before.
const props = defineProps<{ number: number; service?: string }>()
const q = useAround(() => props.number)
const along: Record<string, string> = { '': '', depends_on: 'which it needs', needed_by: 'which needs it' }
const words: Record<string, string> = { other: 'moved', 'not to be had': 'nothing was read before' }
const returns = computed(() => q.data.value?.returns ?? [])
const mitigated = computed(() => returns.value.filter((r) => r.outcome === 'mitigated').length)
</script>

<template>
  <section v-if="q.data.value" id="around" aria-label="Around it" class="around">
    <p v-if="returns.length" class="returns">
      Happened before: {{ returns.length === 1 ? 'once' : `${returns.length} times` }}
      <template v-if="q.data.value.lately">, {{ q.data.value.lately }} of them in the 30 days before</template>
      <template v-if="mitigated">; {{ mitigated }} {{ mitigated === 1 ? 'was' : 'were' }} mitigated, not cured</template
      >. Last:
      <router-link :to="`/incidents/${returns[0]!.number}`">{{ returns[0]!.number }}</router-link>
      <StateWord :state="returns[0]!.outcome" /> <TimeAgo :at="returns[0]!.at" />: {{ returns[0]!.because }}
    </p>
    <p v-else class="faint">First time with this alert on this service.</p>
    <ul v-if="q.data.value.odd.length" class="list">
      <li v-for="o in q.data.value.odd" :key="o.reading + o.target">Outlier: {{ o.says }}</li>
    </ul>
    <table v-if="q.data.value.courses.length" class="plain moves" aria-label="How readings moved">
      <tbody>
        <tr v-for="c in q.data.value.courses" :key="c.reading">
          <td class="mono">{{ c.reading }}</td>
          <td class="faint">
            {{ c.target }}<template v-if="c.targets > 1">, of {{ c.targets }}</template>
          </td>
          <td>
            <template v-if="c.then !== undefined">{{ c.then }} before it, </template>{{ c.now }} {{ c.unit }}
            <TimeAgo :at="c.now_at" />
          </td>
          <td>
            <span v-if="c.says === 'worse'" class="wrong">▲ worse</span>
            <span v-else-if="c.says === 'better'">▽ better</span>
            <span v-else class="faint">{{ words[c.says] ?? c.says }}</span>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-else class="faint">Whether it gets worse is not known: nothing was read of its service since it was opened.</p>
    <template v-if="q.data.value.wide.length > 1 || (q.data.value.wide[0]?.things.length ?? 0) > 1">
      <h2>How wide</h2>
      <ul class="list">
        <li v-for="(w, i) in q.data.value.wide" :key="w.service">
          <router-link :to="`/services/${w.service}`">{{ w.service }}</router-link>
          <span class="faint">&nbsp;{{ along[w.along] }}</span>
          <template v-if="i === 0 && q.data.value.wide.length > 1">: went bad first,</template>
          <template v-else>:</template>
          <TimeAgo :at="w.since" />
          <ul class="things">
            <li v-for="t in w.things.slice(0, 5)" :key="t.alert" :class="{ faint: t.over }">
              <StateWord :state="t.over ? 'cleared' : t.severity" />
              <router-link :to="`/alerts/${t.alert}`">{{ t.summary }}</router-link>
            </li>
            <li v-if="w.count > 5" class="faint">and {{ w.count - 5 }} more</li>
          </ul>
        </li>
      </ul>
    </template>
    <p v-else class="faint">How wide: nothing else is known to be affected around it.</p>
    <details :open="q.data.value.before.length > 0 && q.data.value.before.length < 9">
      <summary>Changed before it: {{ q.data.value.before.length || 'nothing that is known' }}</summary>
      <MarkList v-if="q.data.value.before.length" :marks="q.data.value.before" :own="service" />
    </details>
  </section>
</template>

<style scoped>
.around {
  margin: 10px 0;
}
.list,
.things {
  list-style: none;
  padding: 0;
}
.things {
  padding-left: 14px;
}
</style>
