"""Shares as a planner sees them: who gets in and why, what is changed in place, and what no server takes."""

from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page, Yard
from yardgate.core.acl.rights import Level
from yardgate.core.model.share import HostRule


def ask(page: Page, who: str) -> None:
    field = page.one("[aria-label='Whom to ask about']")
    field.send_keys(who)
    page.until(lambda: page.all(".ant-select-item-option-active"))
    field.send_keys(Keys.ENTER)


def test_why_somebody_gets_in_over_a_share_or_not(yard: Yard, page: Page) -> None:
    page.go(yard.at("shares?share=share-notices"))
    page.says("read-only, gets no access")  # guests: open at the share, closed in storage
    ask(page, "guest")
    page.says("notices lets guests in: read-only.")
    page.says("No line of the list gives Guest anything: no access.")
    page.go(yard.at("shares?share=share-machines"))
    ask(page, "Tomas Brandt")
    page.says("The most that any host gets: read-only.")
    address = page.one("[aria-label='From which address']")
    address.send_keys("192.0.2.7", Keys.ENTER)
    page.says("No host rule takes in 192.0.2.7, so it may not mount machines.")
    assert page.errors() == []


def test_a_share_is_made_changed_in_place_and_stopped(yard: Yard, page: Page) -> None:
    page.go(yard.at("shares"))
    page.button("Add a share").click()
    field = page.one("[aria-label='Place to offer']")
    field.send_keys("curlew")
    page.until(lambda: page.all(".ant-select-item-option-active"))
    field.send_keys(Keys.ENTER)
    page.button("Share it").click()
    page.until(lambda: "share-curlew-31" in yard.now().shares)
    page.until(lambda: page.one(".side h2").text == "curlew-31")
    page.press(".side .ant-checkbox-wrapper", "over NFS")
    page.says("No host may mount it.")
    page.one("[aria-label='Another host']").send_keys("10.0.0.5/24", Keys.ENTER)
    page.says("10.0.0.5/24 has bits beyond its prefix; the network is 10.0.0.0/24")
    field = page.one("[aria-label='Another host']")
    field.send_keys(Keys.CONTROL, "a")
    field.send_keys("10.0.0.0/24", Keys.ENTER)
    page.says("Change how curlew-31 is shared?")
    page.says("10.0.0.0/24 on curlew-31: ")
    page.button("Change it", ".ant-modal").click()
    page.until(lambda: yard.now().shares["share-curlew-31"].hosts == (HostRule(hosts="10.0.0.0/24", level=Level.RO),))
    page.says("keelson:/srv/keel/hulls/curlew-31 /mnt/curlew-31 nfs4 _netdev 0 0")
    page.button("Stop sharing").click()
    page.says("the share curlew-31, which offers keel/hulls/curlew-31")
    page.press(".ant-modal .ant-btn-dangerous:enabled")
    page.until(lambda: "share-curlew-31" not in yard.now().shares)
    page.button("Undo").click()
    page.until(lambda: "share-curlew-31" in yard.now().shares)


def test_the_server_is_called_in_the_lines_as_clients_reach_it(yard: Yard, page: Page) -> None:
    page.go(yard.at("shares"))
    page.says("The server is reached as keelson, and as 192.0.2.10.")
    page.button("Change …", ".side").click()
    field = page.one("input[aria-label='Names and addresses of the server']")
    field.send_keys(Keys.BACKSPACE, Keys.BACKSPACE, "files quay", Keys.ENTER)
    page.until(lambda: yard.now().target.addresses == ("files", "quay"))
    page.says("\\\\files\\backups")
    field.send_keys("quay_2", Keys.ENTER)
    page.says("clients cannot reach the server as “quay_2”: it is no host name and no address")
    assert yard.now().target.addresses == ("files", "quay")
    assert page.errors() == []


def test_a_service_switched_off_shows_at_every_share(yard: Yard, page: Page) -> None:
    page.go(yard.at("shares?share=share-drawings"))
    page.one("[aria-label='SMB service']").click()
    page.says("Switch SMB off?")
    page.says("would get less than is granted to them today in")
    page.button("Cancel", ".ant-modal").click()
    page.until(lambda: not page.all(".ant-modal"))
    assert "smb" not in yard.now().services or yard.now().services["smb"].on
    page.one("[aria-label='SMB service']").click()
    page.until(lambda: page.button("Switch it off", ".ant-modal").click() or True)
    page.says("SMB is switched off: nobody gets in over it.")
    page.says("No share reaches")
    assert not yard.now().services["smb"].on


def test_a_share_is_found_by_its_name(yard: Yard, page: Page) -> None:
    page.go(yard.at("board"))
    page.one("[role=grid]").send_keys("/")
    page.until(
        lambda: (
            page.driver.switch_to.active_element.get_attribute("aria-label")
            == "Find a person, group, place or share, or something to do"
        )
    )
    page.driver.switch_to.active_element.send_keys("notices")
    page.until(
        lambda: [e for e in page.all(".ant-select-item-option") if "share of keel / common / noticeboard" in e.text]
    )
    page.driver.switch_to.active_element.send_keys(Keys.ENTER)
    page.until(lambda: page.one(".side h2").text == "notices")


def test_keys_that_come_all_at_once_do_the_search_no_harm(yard: Yard, page: Page) -> None:
    page.go(yard.at("board"))
    page.one("[aria-label^='Find a person']").send_keys("abcdefghijklmnopqrstuvwxyz" * 2)
    page.says("Nobody and nothing of that name")
    assert page.errors() == []


def test_a_share_is_opened_to_everybody_in_both_layers_and_closed_again(yard: Yard, page: Page) -> None:
    page.go(yard.at("shares?share=share-training"))
    page.until(lambda: page.button("Open to everybody, guests too").click() or True)
    page.says("guests, who need no account and no password, are let in")
    page.says("a grant to everyone, all accounts and guests")
    page.until(
        lambda: next(b for b in page.all(".ant-modal button") if b.text == "Open it" and b.is_enabled()).click() or True
    )
    page.until(lambda: yard.now().shares["share-training"].guests == "RO")
    assert yard.now().grants["training"]["everyone"] == "RO"
    page.until(lambda: page.button("Open to everybody: change or close").click() or True)
    page.until(
        lambda: (
            next(b for b in page.all(".ant-modal button") if b.text == "Close it" and b.is_enabled()).click() or True
        )
    )
    page.until(lambda: yard.now().shares["share-training"].guests == "NA")
    assert "everyone" not in yard.now().grants["training"]
    assert page.errors() == []


def test_who_may_use_a_service_is_said_at_the_service(yard: Yard, page: Page) -> None:
    page.go(yard.at("shares"))
    page.until(lambda: page.all(".service button[title='Who may use administration pages']")[0].click() or True)
    page.until(lambda: page.all(".ant-modal input[name=only]")[1].click() or True)
    who = page.until(lambda: next(i for i in page.all(".ant-modal input[role=combobox]") if i.is_enabled()))
    who.send_keys("Office")
    page.until(lambda: "Office" in page.one(".ant-select-item-option-active").text)
    who.send_keys(Keys.ENTER)
    page.until(lambda: "Office" in page.one(".ant-modal .ant-select").text)
    page.one(".ant-modal-title").click()  # which closes the list of names
    page.until(lambda: page.button("Apply", ".ant-modal").click() or True)
    page.until(lambda: "pages" in yard.now().services)
    assert len(yard.now().services["pages"].allowed or ()) == 1
    page.until(lambda: not page.all(".ant-modal"))
    page.until(lambda: page.all("[aria-label='SMB service']")[0].click() or True)
    page.until(lambda: page.button("Switch it off", ".ant-modal").click() or True)
    page.until(lambda: "smb" in yard.now().services)
    assert not yard.now().services["smb"].on
    page.says("SMB off")
    assert page.errors() == []
