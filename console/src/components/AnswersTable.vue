<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { clockTime, exact, relative, useClock } from '../composables/clock'
import { andList } from '../composables/list'

/** What follows each word of whoever is asked: a row for each, and at last what follows if nobody answers. */
const props = defineProps<{ answers: Schemas['AnswerRow'][]; labels?: Record<string, string> }>()
const now = useClock()
const names: Record<string, string> = { yes: 'Yes', no: 'No', nobody: 'Nobody answers' }
/** Answers that lead to the same are told together. */
const rows = computed(() => {
  const out: { word: string; title: string; a: Schemas['AnswerRow'] }[] = []
  for (const a of props.answers) {
    const title = props.labels?.[a.word] ?? names[a.word] ?? a.word
    const same =
      props.labels && a.word !== 'nobody' && out.find((x) => x.word !== 'nobody' && x.a.says.join() === a.says.join())
    if (same) same.title += `, ${title}`
    else out.push({ word: a.word, title, a })
  }
  return out
})
/** Who is called a second time by another way is told once. */
function firstOnly(list: Schemas['CalledLater'][]) {
  const seen = new Set<string>()
  return list
    .map((l) => ({ ...l, people: l.people.filter((p) => !seen.has(p) && Boolean(seen.add(p))) }))
    .filter((l) => l.people.length)
}
const minute = (at: string) => clockTime(at).slice(0, 5)
</script>

<template>
  <table v-if="rows.length" class="answers" :class="{ 'wide-words': labels }" aria-label="What follows each answer">
    <thead>
      <tr>
        <th scope="col">If</th>
        <th scope="col">What happens</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="r in rows" :key="r.word" :class="names[r.word] ? r.word : 'choice'">
        <th scope="row">{{ r.title }}</th>
        <td>
          <span v-for="l in firstOnly(r.a.later ?? [])" :key="l.at" class="line"
            ><span :title="exact(l.at)" class="num">{{ minute(l.at) }}</span> {{ andList(l.people) }}
            {{ l.people.length === 1 ? 'is' : 'are' }} called.
          </span>
          <span v-for="(line, i) in r.a.says" :key="line" class="line"
            ><template v-if="!i && r.a.at"
              ><span :title="`${exact(r.a.at)}, ${relative(r.a.at, now)}`" class="num">{{ minute(r.a.at) }}</span
              >{{ ' ' }}</template
            >{{ line }}
          </span>
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.answers {
  width: 100%;
  border-collapse: collapse;
  table-layout: fixed;
  font-size: 13px;
  line-height: 18px;
}
thead th {
  font-size: 12px;
  line-height: 16px;
  font-weight: 600;
  color: rgba(var(--v-theme-on-surface), 0.74);
}
th {
  text-align: left;
  vertical-align: top;
  padding: 5px 12px 5px 0;
  width: 92px;
  font-weight: 650;
  overflow-wrap: anywhere;
}
td {
  padding: 5px 0;
  vertical-align: top;
  overflow-wrap: anywhere;
}
tbody th,
tbody td {
  border-top: 1px solid rgba(var(--v-theme-on-surface), 0.14);
}
thead th:last-child {
  width: auto;
}
.line {
  display: block;
}
@media (max-width: 700px) {
  .answers {
    line-height: 16.5px;
    font-size: 12.5px;
  }
  th {
    width: 62px;
    padding: 2px 8px 2px 0;
  }
  td {
    padding: 2px 0;
  }
  thead {
    display: none;
  }
  .line {
    display: inline;
  }
  .line::after {
    content: ' ';
  }
  .wide-words th {
    width: 104px;
  }
}
</style>
