<script setup lang="ts">
import ActButton from '../components/ActButton.vue'
import { defineComponent, provide, ref, shallowRef, watch } from 'vue'
import { useRoute } from 'vue-router'

import GatePanel from '../components/GatePanel.vue'
import QuestionPanel from '../components/QuestionPanel.vue'
import StateWord from '../components/StateWord.vue'
import TimeAgo from '../components/TimeAgo.vue'
import { useAttempt } from '../composables/attempt'
import { actByLink, openLink, sentLink, type SentLink } from '../composables/data'
import StateShape from '../components/StateShape.vue'

// What a link shows that was sent to somebody. Its key stands behind the #, which the browser sends to nobody.
const route = useRoute()
const link = shallowRef<SentLink>()
const taken = ref(false)
const { wrong, busy, attempt } = useAttempt()
const look = () =>
  attempt(async () => {
    link.value = undefined
    const key = route.hash.slice(1)
    link.value = { key, opened: await openLink(key) }
  })
watch(() => route.hash, look, { immediate: true })

const take = () =>
  attempt(
    () => actByLink({ key: link.value!.key, do: 'take' }),
    () => (taken.value = true),
  )

/** Gives what stands in it the link in the place of a session. */
const ByLink = defineComponent({
  props: { link: { type: Object as () => SentLink, required: true } },
  setup(props, { slots }) {
    provide(sentLink, props.link)
    return () => slots.default?.()
  },
})
</script>

<template>
  <div class="page">
    <template v-if="link">
      <h1 v-if="link.opened.title">{{ link.opened.title }}</h1>
      <p v-if="link.opened.severity" class="head left">
        <StateWord :state="link.opened.severity" />
        <span v-if="link.opened.opened_at" class="faint">opened <TimeAgo :at="link.opened.opened_at" /></span>
      </p>
      <p class="head">
        <span class="faint"
          >Sent to {{ link.opened.person
          }}<template v-if="link.opened.incident"> about incident {{ link.opened.incident }}</template></span
        >
        <ActButton v-if="link.opened.incident && !taken" id="take" size="small" :loading="busy" @click="take"
          >I have it: call nobody else</ActButton
        >
        <strong v-if="taken" role="status"><StateShape name="tick" /> You have it. Nobody else is called.</strong>
      </p>
      <p v-if="link.opened.used" role="status" class="empty">
        <strong>{{ link.opened.happened }}</strong> A link decides once:
        <router-link :to="link.opened.incident ? `/incidents/${link.opened.incident}` : '/'">sign in</router-link>
        to see how it goes on.
      </p>
      <ByLink v-else :link="link">
        <GatePanel v-if="link.opened.gate?.state === 'open'" :gate="link.opened.gate" first @said="look" />
        <QuestionPanel v-else-if="link.opened.question" :question="link.opened.question" @said="look" />
        <p v-else class="empty">
          <template v-if="link.opened.gate"
            >{{ link.opened.gate.title }}: {{ link.opened.gate.state
            }}<template v-if="link.opened.gate.decided_by"> by {{ link.opened.gate.decided_by }}</template
            >.</template
          >
          <router-link v-if="link.opened.incident" :to="`/incidents/${link.opened.incident}`"
            >The incident, once signed in</router-link
          >
        </p>
      </ByLink>
    </template>
    <p v-if="wrong" role="alert" class="empty">
      {{ wrong }} <router-link to="/">Sign in</router-link> to see what waits for you.
    </p>
  </div>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 20px;
  align-items: center;
  justify-content: space-between;
  margin-bottom: 8px;
}
.left {
  justify-content: flex-start;
}
</style>
