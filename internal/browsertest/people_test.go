package browsertest

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/members"
	"yellowlantern/internal/people"
)

// Somebody is added with a password that is made, has limits of their own and a link; a table is looked at and taken.
func TestPeoplePage(t *testing.T) {
	d, p := start(t)
	p.signIn(d)
	p.script(`document.querySelector('nav a[href="/people"]').click()`)
	p.until(`document.querySelector('#how-many')?.innerText`, "5 who may connect")
	p.do(chromedp.Click(chromedp.CSS("#add")), chromedp.WaitVisible(chromedp.CSS("#user")))
	for _, x := range [][2]string{
		{"#user", "nell.newcomer"}, {"#full-name", "Nell Newcomer"}, {"#mail", "nell@tern.example"}, {"#groups", "researchers\r"},
	} {
		p.do(chromedp.SendKeys(chromedp.CSS(x[0]), x[1]))
	}
	p.shot("person-begun")
	p.script(`document.querySelector('#own-limits').click()`)
	p.do(chromedp.WaitVisible(chromedp.CSS("#sessions")))
	p.script(`(() => { for (const [id, v] of [['#until', '2031-01-31'], ['#sessions', '2']]) {
		const e = document.querySelector(id); e.value = v; e.dispatchEvent(new Event('input')) } return '' })()`)
	p.shot("person")
	p.do(chromedp.Click(chromedp.CSS("#save-user")))
	p.until(bodyText, "nell.newcomer is added.")
	p.until(`document.querySelector('#made-password code')?.innerText`, "-")
	p.shot("people-made")
	var u people.User
	require.NoError(t, d.Client.Do(t.Context(), "GET", "/users/nell.newcomer", nil, &u))
	require.Equal(t, "2031-02-01", u.Until.Format("2006-01-02"), "until the end of the day")
	require.Equal(t, 2, u.Sessions)
	require.True(t, u.MustChange)

	p.script(`(() => { const f = document.querySelector('#filter'); f.value = 'nell@'; f.dispatchEvent(new Event('input')); return '' })()`)
	p.until(`document.querySelector('#how-many')?.innerText`, "1 of 6")
	p.script(`[...document.querySelectorAll('button')].find(b => b.innerText.toLowerCase() === 'change').click()`)
	p.do(chromedp.Click(chromedp.CSS("#password-link")))
	p.until(`document.querySelector('#choice')?.innerText`, "/password/")

	p.script(`[...document.querySelectorAll('button')].find(b => b.innerText.toLowerCase() === 'explain').click()`)
	p.until(`document.querySelector('#explained')?.innerText`, "counts only to choose another with")
	p.until(`document.querySelector('#explained')?.innerText`, "it admits researchers")
	p.shot("explained")
	p.script(`[...document.querySelectorAll('#explained button')].find(b => b.innerText.toLowerCase() === 'close').click()`)

	p.script(`document.querySelector('#table').click()`)
	p.do(chromedp.WaitVisible(chromedp.CSS("#table-text")))
	const table = "user,groups\nnell.newcomer,volunteers\nnew.nestling,researchers\nold.owl,nobodies\n"
	p.do(chromedp.SendKeys(chromedp.CSS("#table-text"), table))
	p.do(chromedp.Click(chromedp.CSS("#look")))
	p.until(bodyText, "1 line will not do, so nothing can be taken.")
	p.shot("people-table")
	p.script(`[...document.querySelectorAll('.v-dialog input[type=checkbox]')][0].click()`)
	p.do(chromedp.Click(chromedp.CSS("#look")))
	p.until(bodyText, "Every line will do")
	p.do(chromedp.Click(chromedp.CSS("#take")))
	p.until(bodyText, "2 passwords were made.")
	var page members.Added
	require.NoError(t, d.Client.Do(t.Context(), "GET", "/users/new.nestling", nil, &page))
	require.True(t, page.MustChange)
}
